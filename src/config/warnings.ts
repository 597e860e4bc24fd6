import type { NamedEndpointOptions, ReuseOptions } from '../core/endpoints/options.js'
import type { ProviderOptions } from '../core/endpoints/provider-options.js'
import { endpointList, resolveRule } from '../core/endpoints/resolve-rule.js'
import type { ConfigFault } from '../core/errors/setup-errors.js'
import { parseRequestTemplate, segmentsOf } from '../core/rules/request-template.js'
import { durationMs } from '../core/time/duration.js'
import type { StashConfig } from './stash-config.js'

const day = 86_400_000

/** What a right configuration probably does not mean. */
export function likelyMistakes({ providers = {}, sets = {} }: StashConfig): ConfigFault[] {
  return Object.entries(providers).flatMap(([name, provider]) =>
    endpointList(provider).flatMap((endpoint) => {
      const rule = resolveRule(endpoint, provider, sets)
      const { freshFor } = rule
      const freshMs = typeof freshFor === 'function' ? undefined : durationMs(freshFor)
      const path = `providers.${name}.endpoints.${endpoint.name}`
      return mistakesOf(endpoint, provider, rule, freshMs ?? 0).map((message) => ({ path, message }))
    }),
  )
}

/** Paths of interfaces that tell their errors within a 200. */
const tellsErrorsInside = /(^|\/)(graphql|gql|rpc|jsonrpc|json-rpc|soap|xmlrpc)(\/|$)/i

/** What of an interface whose requests all look alike would be taken for what it is not: its errors for good answers, its writes for repetitions. */
function mistaken({ request, keyedBy, protocol, safe }: NamedEndpointOptions, rule: ReuseOptions): string | undefined {
  const { failsWhen, reuse, freshFor, freshUntil } = rule
  const [method, path = ''] = request.split(' ')
  const pointsAtCall =
    typeof keyedBy === 'object' && keyedBy.body?.some((pointer) => /^\/(query|variables|operationName|method|params)$/.test(pointer))
  const isOne = tellsErrorsInside.test(path.split('?')[0] as string) || pointsAtCall === true
  if (!isOne || protocol !== undefined || reuse === 'never' || (freshFor ?? freshUntil) === undefined) return undefined
  const parts = [
    ...(failsWhen === undefined && reuse?.exceptAnswer === undefined ? ['errors come within a 200 and would be stored'] : []),
    ...(method === 'POST' && safe && reuse?.exceptRequest === undefined ? ['writes would be answered from store and never leave'] : []),
  ]
  return parts.length > 0 ? parts.join(', and whose ') : undefined
}

/** The protocol that an endpoint probably speaks, as its option. */
function protocolWords({ request, keyedBy }: NamedEndpointOptions): string {
  const pointsAtCall = typeof keyedBy === 'object' && keyedBy.body?.some((pointer) => /^\/(method|params)$/.test(pointer))
  if (/(graphql|gql)/i.test(request)) return 'protocol: "graphql"'
  return pointsAtCall || /rpc/i.test(request) ? 'protocol: "json-rpc"' : 'protocol: "graphql" or "json-rpc" where it is one'
}

function mistakesOf(endpoint: NamedEndpointOptions, provider: ProviderOptions, rule: ReuseOptions, freshMs: number): string[] {
  const { keyedBy, shared, request } = endpoint
  const path = parseRequestTemplate(request)?.path ?? []
  const base = URL.canParse(provider.baseUrl ?? '') ? segmentsOf(new URL(provider.baseUrl as string).pathname.replace(/\/$/, '')) : []
  const repeatsBase =
    base.join('') !== '' &&
    base.every((segment, i) => {
      const part = path[i]
      return part?.kind === 'literal' && part.text === segment
    })
  const wrong = mistaken(endpoint, rule)
  const keyedByNothing = typeof keyedBy === 'object' && Array.isArray(keyedBy.query) && keyedBy.query.length === 0
  const hasCredentials = (provider.secretQuery ?? []).length + (provider.secretHeaders ?? []).length > 0 || provider.caller !== undefined
  return [
    ...(freshMs > day && keyedByNothing && path.every(({ kind }) => kind === 'literal')
      ? ['is fresh for more than a day and keyed by nothing: every request to it gets the same answer']
      : []),
    ...(shared && hasCredentials
      ? ['is shared, and its provider takes credentials: callers with different ones get the same answers']
      : []),
    ...(wrong === undefined ? [] : [`looks like GraphQL or RPC, whose ${wrong}: say ${protocolWords(endpoint)}`]),
    ...(repeatsBase
      ? [`repeats the path of "baseUrl", "/${base.join('/')}": only URLs match that have it twice; leave it out of "request"`]
      : []),
    ...(path.some((part) => part.kind === 'literal' && /^\.\.?$/.test(part.text))
      ? ['can never match: no URL has "." or ".." as a segment']
      : []),
  ]
}
