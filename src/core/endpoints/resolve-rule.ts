import type { NamedEndpointOptions, ReuseOptions, RuleOptions } from './options.js'
import type { ProviderOptions } from './provider-options.js'

/** Named sets of options. */
export type Sets = Readonly<Record<string, ReuseOptions>>

/** The options that hold for an endpoint or operation: its own over those of its sets over the provider's defaults and their sets. */
export function resolveRule(own: RuleOptions, { defaults: common = {} }: ProviderOptions, sets: Sets): ReuseOptions {
  return overlaid(withSets(common, sets), withSets(own, sets))
}

/** Options with those of the sets that they name under them. */
export function withSets({ set = [], ...own }: RuleOptions, sets: Sets): ReuseOptions {
  const named = typeof set === 'string' ? [set] : set
  return [...named.map((name) => (Object.hasOwn(sets, name) && sets[name]) || {}), own].reduce(overlaid, {})
}

/** What `over` says, and what `under` says besides; one way of saying how long an answer is fresh takes the place of another. */
export function overlaid(under: ReuseOptions, over: ReuseOptions): ReuseOptions {
  const both = { ...under, ...over }
  if (over.freshFor !== undefined && over.freshUntil === undefined) delete (both as { freshUntil?: unknown }).freshUntil
  if (over.freshUntil !== undefined && over.freshFor === undefined) delete (both as { freshFor?: unknown }).freshFor
  return both as ReuseOptions
}

/** The endpoints of a provider as a list, however they were written. */
export function endpointList(options: ProviderOptions): NamedEndpointOptions[] {
  const { endpoints = {} } = options
  return isList(endpoints) ? [...endpoints] : Object.entries(endpoints).map(([name, endpoint]) => ({ ...endpoint, name }))
}

function isList<T>(value: T | readonly unknown[]): value is Extract<T, readonly unknown[]> {
  return Array.isArray(value)
}
