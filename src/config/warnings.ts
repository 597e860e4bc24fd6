import { endpointList, resolveRule } from '../core/endpoints/compile.js'
import type { NamedEndpointOptions } from '../core/endpoints/options.js'
import type { ProviderOptions } from '../core/endpoints/provider-options.js'
import type { ConfigFault } from '../core/errors/setup-errors.js'
import { parseRequestTemplate } from '../core/rules/request-template.js'
import { durationMs } from '../core/time/duration.js'
import type { StashConfig } from './stash-config.js'

const day = 86_400_000

/** What a right configuration probably does not mean. */
export function likelyMistakes({ providers = {}, sets = {} }: StashConfig): ConfigFault[] {
  return Object.entries(providers).flatMap(([name, provider]) =>
    endpointList(provider).flatMap((endpoint) => {
      const { freshFor } = resolveRule(endpoint, provider, sets)
      const freshMs = typeof freshFor === 'function' ? undefined : durationMs(freshFor)
      const path = `providers.${name}.endpoints.${endpoint.name}`
      return mistakesOf(endpoint, provider, freshMs ?? 0).map((message) => ({ path, message }))
    }),
  )
}

function mistakesOf(endpoint: NamedEndpointOptions, provider: ProviderOptions, freshMs: number): string[] {
  const { keyedBy, shared, request } = endpoint
  const path = parseRequestTemplate(request)?.path ?? []
  const keyedByNothing = typeof keyedBy === 'object' && Array.isArray(keyedBy.query) && keyedBy.query.length === 0
  const hasCredentials = (provider.secretQuery ?? []).length + (provider.secretHeaders ?? []).length > 0
  return [
    ...(freshMs > day && keyedByNothing && path.every(({ kind }) => kind === 'literal')
      ? ['is fresh for more than a day and keyed by nothing: every request to it gets the same answer']
      : []),
    ...(shared && hasCredentials
      ? ['is shared, and its provider takes credentials: callers with different ones get the same answers']
      : []),
    ...(path.some((part) => part.kind === 'literal' && /^\.\.?$/.test(part.text))
      ? ['can never match: no URL has "." or ".." as a segment']
      : []),
  ]
}
