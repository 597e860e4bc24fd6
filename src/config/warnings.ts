import { endpointList, resolveRule } from '../core/endpoints/compile.js'
import type { NamedEndpointOptions } from '../core/endpoints/options.js'
import type { ProviderOptions } from '../core/endpoints/provider-options.js'
import type { ConfigFault } from '../core/errors/setup-errors.js'
import { compileCredentials, looksSecret } from '../core/rules/credentials.js'
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
  const hasCredentials = (provider.secretQuery ?? []).length + (provider.secretHeaders ?? []).length > 0 || provider.caller !== undefined
  const credentials = compileCredentials(provider)
  const isDoubtful = (name: string) => looksSecret(name) && !credentials.isCleared(name)
  const { query, headers } = typeof keyedBy === 'object' ? keyedBy : {}
  const listed = (names: typeof query | typeof headers) => (names === undefined || 'except' in names ? [] : names)
  const doubtful = [
    ...listed(headers)
      .filter((field) => isDoubtful(field) && !credentials.isField(field))
      .map((field) => ['secretHeaders', field]),
    ...listed(query)
      .filter((parameter) => isDoubtful(parameter) && !credentials.isParameter(parameter))
      .map((one) => ['secretQuery', one]),
  ]
  return [
    ...(freshMs > day && keyedByNothing && path.every(({ kind }) => kind === 'literal')
      ? ['is fresh for more than a day and keyed by nothing: every request to it gets the same answer']
      : []),
    ...(shared && hasCredentials
      ? ['is shared, and its provider takes credentials: callers with different ones get the same answers']
      : []),
    ...doubtful.map(
      ([option, field]) =>
        `is keyed by "${field}", which looks like a credential and is not treated as one: name it in "${option}" of the provider, or in "notSecret" where it is none`,
    ),
    ...(path.some((part) => part.kind === 'literal' && /^\.\.?$/.test(part.text))
      ? ['can never match: no URL has "." or ".." as a segment']
      : []),
  ]
}
