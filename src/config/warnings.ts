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

/** Whether an endpoint is of a kind whose answers look fine when they are not, and nothing says how that shows. */
function hidesFailures({ request, keyedBy }: NamedEndpointOptions, { failsWhen, reuse, freshFor, freshUntil }: ReuseOptions): boolean {
  const [, path = ''] = request.split(' ')
  const pointsAtQuery =
    typeof keyedBy === 'object' && keyedBy.body?.some((pointer) => /^\/(query|variables|operationName|method|params)$/.test(pointer))
  const isStored = freshFor !== undefined || freshUntil !== undefined
  const excepts = typeof reuse === 'object' && reuse.exceptAnswer !== undefined
  return (
    isStored &&
    reuse !== 'never' &&
    failsWhen === undefined &&
    !excepts &&
    (tellsErrorsInside.test(path.split('?')[0] as string) || pointsAtQuery === true)
  )
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
  const keyedByNothing = typeof keyedBy === 'object' && Array.isArray(keyedBy.query) && keyedBy.query.length === 0
  const hasCredentials = (provider.secretQuery ?? []).length + (provider.secretHeaders ?? []).length > 0 || provider.caller !== undefined
  return [
    ...(freshMs > day && keyedByNothing && path.every(({ kind }) => kind === 'literal')
      ? ['is fresh for more than a day and keyed by nothing: every request to it gets the same answer']
      : []),
    ...(shared && hasCredentials
      ? ['is shared, and its provider takes credentials: callers with different ones get the same answers']
      : []),
    ...(hidesFailures(endpoint, rule)
      ? [
          'looks like GraphQL or RPC, whose errors come within a 200 and would be stored: say what fails, e.g. failsWhen: { at: "/errors" }, or what is not stored, with reuse: { exceptAnswer }',
        ]
      : []),
    ...(repeatsBase
      ? [`repeats the path of "baseUrl", "/${base.join('/')}": only URLs match that have it twice; leave it out of "request"`]
      : []),
    ...(path.some((part) => part.kind === 'literal' && /^\.\.?$/.test(part.text))
      ? ['can never match: no URL has "." or ".." as a segment']
      : []),
  ]
}
