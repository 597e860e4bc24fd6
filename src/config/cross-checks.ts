import { inherited } from '../core/endpoints/endpoint-rules.js'
import type { EndpointTerms, NamedEndpointOptions, ReuseOptions, RuleOptions } from '../core/endpoints/options.js'
import type { ProviderOptions } from '../core/endpoints/provider-options.js'
import { endpointList, resolveRule } from '../core/endpoints/resolve-rule.js'
import type { ConfigFault } from '../core/errors/setup-errors.js'
import { areTied, parametersOf, parseRequestTemplate, type RequestTemplate } from '../core/rules/request-template.js'
import { durationMs } from '../core/time/duration.js'
import { budgetFaults } from './budget-checks.js'
import { labelFaults } from './label-checks.js'
import { withNearest } from './nearest-name.js'
import { planFaults } from './plan-checks.js'

/** Faults that only several options together show. The shape may be wrong too: what cannot be read is passed over. */
export function providerFaults(config: unknown): ConfigFault[] {
  const providers = recordOf(recordOf(config)?.providers)
  if (!providers) return []
  const sets = setsOf(config)
  const faults: ConfigFault[] = []
  const byBase = new Map<string, string>()
  for (const [name, value] of Object.entries(providers)) {
    const provider = recordOf(value) as ProviderOptions | undefined
    if (!provider) continue
    const path = `providers.${name}`
    const base = baseOf(provider.baseUrl)
    const other = base && byBase.get(base)
    if (other) faults.push({ path: `${path}.baseUrl`, message: `providers "${other}" and "${name}" have the same base URL` })
    else if (base) byBase.set(base, name)
    if (recordOf(provider.defaults)) faults.push(...setFaults(provider.defaults ?? {}, sets, `${path}.defaults`))
    faults.push(...planFaults(provider.plan, `${path}.plan`), ...budgetFaults(provider, path), ...endpointFaults(provider, sets, path))
  }
  return faults
}

type Sets = Readonly<Record<string, ReuseOptions>>

/** The sets of a configuration, as far as they can be read. */
export function setsOf(config: unknown): Sets {
  return (recordOf(recordOf(config)?.sets) ?? {}) as Sets
}

/** Faults among the options of one endpoint or operation, with what it takes from sets and its provider's defaults. */
export function ruleFaults(own: RuleOptions, provider: ProviderOptions, sets: Sets, path: string): ConfigFault[] {
  const faults = setFaults(own, sets, path)
  if (own.freshFor !== undefined && own.freshUntil !== undefined) {
    faults.push({ path: `${path}.freshUntil`, message: 'stands beside "freshFor": say one of them' })
  }
  const rule = faults.length === 0 ? resolveRule(withReadableSets(own), { defaults: withReadableSets(provider.defaults) }, sets) : own
  const isInherited = (own as Partial<EndpointTerms>).protocol === 'json-rpc' // whose methods have what makes them do something
  for (const [option, message] of isInherited ? [] : idleOptions(own, rule)) faults.push({ path: `${path}.${option}`, message })
  for (const option of ['perCall', 'weight'] as const) {
    if (own[option] === undefined || provider.plan !== undefined) continue
    faults.push({ path: `${path}.${option}`, message: 'needs a "plan" of the provider, which says the currency' })
  }
  const unpriced = Object.keys(recordOf(own.units) ?? {}).filter((unit) => !unitsOfPlan(provider).has(unit))
  for (const unit of unpriced) {
    faults.push({ path: `${path}.units.${unit}`, message: 'has no price: give it one under "units" of the provider\'s "plan"' })
  }
  if (own.countBy === 'per' && (own as Partial<EndpointTerms>).per === undefined) {
    faults.push({ path: `${path}.countBy`, message: 'needs a function "per" of the same endpoint, which names whose call it is' })
  }
  if (own.perCall !== undefined && own.weight !== undefined) {
    faults.push({ path: `${path}.weight`, message: 'does nothing beside "perCall": such calls count towards nothing else in the plan' })
  }
  return faults
}

/** The units that a plan has prices for, now or later. */
function unitsOfPlan({ plan }: ProviderOptions): Set<string> {
  const terms = [plan, ...(Array.isArray(plan?.changes) ? plan.changes : [])]
  return new Set(terms.flatMap((one) => Object.keys(recordOf(one?.units) ?? {})))
}

/** Options that cannot do anything beside the others, each with why. */
function idleOptions(
  own: RuleOptions,
  { freshFor, freshUntil, freshForStatus, trust = 'rule', neverStale, refreshAhead }: ReuseOptions,
): [keyof ReuseOptions, string][] {
  const ruled = freshFor !== undefined || freshUntil !== undefined
  const kept = ruled || freshForStatus !== undefined || trust !== 'rule'
  const unkept =
    'does nothing without "freshFor", "freshUntil" or a "trust" in the upstream: only answers that are stored can be given out later'
  const idle: [keyof ReuseOptions, boolean, string][] = [
    ['jitter', freshUntil !== undefined, 'does nothing with "freshUntil": what is published at a moment is old from that moment on'],
    ['staleIfError', !kept, unkept],
    ['staleWhileRevalidate', !kept, unkept],
    ['refreshAhead', !kept, unkept],
    [
      'refreshAhead',
      typeof freshFor !== 'function' && (durationMs(freshFor) ?? Number.POSITIVE_INFINITY) <= (durationMs(refreshAhead) ?? 0),
      'is not shorter than "freshFor": every use would refresh the answer',
    ],
    ...(['staleIfError', 'staleWhileRevalidate'] as const).map((option): [keyof ReuseOptions, boolean, string] => [
      option,
      neverStale === true,
      'does nothing beside "neverStale": say one of them',
    ]),
    ['trust', !ruled && trust === 'rule', 'needs a rule to trust: give "freshFor" or "freshUntil"'],
    ['trust', !ruled && trust === 'shorter', 'needs a rule to compare with: give "freshFor" or "freshUntil", or trust "upstream"'],
    [
      'sliding',
      trust !== 'rule' || freshFor === undefined || typeof freshFor === 'function',
      'needs a duration as "freshFor", and no "trust" in the upstream: each use makes an answer fresh for that long again',
    ],
  ]
  return idle.flatMap(([option, isIdle, message]) => (own[option] !== undefined && isIdle ? [[option, message]] : []))
}

/** The names of sets, as far as they can be read. */
function namesOf(set: unknown): string[] {
  return (Array.isArray(set) ? set : [set]).filter((name) => typeof name === 'string')
}

/** The same options, in a form that can be resolved. */
function withReadableSets(options: RuleOptions | undefined): RuleOptions {
  return { ...options, set: namesOf(options?.set) }
}

function setFaults({ set }: RuleOptions, sets: Sets, path: string): ConfigFault[] {
  return namesOf(set)
    .filter((name) => !Object.hasOwn(sets, name))
    .map((name) => ({
      path: `${path}.set`,
      message: `there is no set "${name}"${withNearest(name, Object.keys(sets)) || ': describe it under "sets"'}`,
    }))
}

/** `providers.ebbline.endpoints[2].name` for a path. */
export function endpointPath(path: readonly PropertyKey[]): string {
  return path.reduce<string>(
    (text, step) => (typeof step === 'number' ? `${text}[${step}]` : text ? `${text}.${String(step)}` : String(step)),
    '',
  )
}

function endpointFaults(provider: ProviderOptions, sets: Sets, path: string): ConfigFault[] {
  const isList = Array.isArray(provider.endpoints)
  const endpoints = readable(provider)
  const faults: ConfigFault[] = []
  const byName = new Map<string, string>()
  const templates: Place[] = []
  if (endpoints.length > 0 && provider.baseUrl === undefined) {
    faults.push({ path: `${path}.baseUrl`, message: 'is missing: the endpoints need a URL to stand below' })
  }
  for (const [i, endpoint] of endpoints.entries()) {
    const place = isList ? `${path}.endpoints[${i}]` : `${path}.endpoints.${endpoint.name}`
    const sameName = byName.get(endpoint.name)
    if (sameName)
      faults.push({ path: `${place}.name`, message: `"${endpoint.name}" is the name of ${sameName} too: give each a name of its own` })
    else byName.set(endpoint.name, place)
    faults.push(...ruleFaults(endpoint, provider, sets, place), ...requestFaults(endpoint, provider, place, templates))
    faults.push(...protocolFaults(endpoint, provider, sets, place))
  }
  return faults
}

/** Faults of what a protocol is needed for, or stands in the way of. */
function protocolFaults(endpoint: NamedEndpointOptions, provider: ProviderOptions, sets: Sets, place: string): ConfigFault[] {
  const { protocol, byName, documents, safe, keyedBy, request } = endpoint
  const faults: ConfigFault[] = []
  const fault = (option: string, message: string) => void faults.push({ path: `${place}.${option}`, message })
  for (const [option, value] of Object.entries({ byName, documents }))
    if (value !== undefined && protocol === undefined)
      fault(option, 'needs a "protocol" of the same endpoint, which says what its bodies are')
  if (protocol === undefined) return faults
  if (!/^(POST|GET) /.test(String(request))) fault('protocol', 'is for POST and GET only')
  else if (protocol === 'json-rpc' && !String(request).startsWith('POST ')) fault('protocol', '"json-rpc" is for POST only')
  if (safe) fault('safe', 'stands beside "protocol", which says which calls only ask: leave it out')
  if (documents !== undefined && protocol !== 'graphql') fault('documents', 'are those of GraphQL, not of "json-rpc"')
  if (typeof keyedBy === 'object' && keyedBy.body !== undefined)
    fault('keyedBy.body', 'stands beside "protocol", by which all of a call counts but its id: leave it out')
  for (const option of ['freshFor', 'freshUntil'] as const)
    if (protocol === 'json-rpc' && endpoint[option] !== undefined)
      fault(
        option,
        `does nothing for "json-rpc", which does not say what only asks: name the methods in byName: { "eth_chainId": { ${option}: ... } }`,
      )
  for (const [operation, own] of Object.entries(recordOf(byName) ?? {}))
    if (recordOf(own))
      faults.push(...ruleFaults(own as RuleOptions, withOwnAsDefaults(provider, endpoint, sets), sets, `${place}.byName.${operation}`))
  return faults
}

/** A provider whose defaults are what the rules of operations stand over: the options of their endpoint, over the provider's own. */
function withOwnAsDefaults(provider: ProviderOptions, endpoint: NamedEndpointOptions, sets: Sets): ProviderOptions {
  const known = setFaults(endpoint, sets, '').length === 0 && setFaults(provider.defaults ?? {}, sets, '').length === 0
  return known ? { ...provider, defaults: inherited(endpoint, resolveRule(withReadableSets(endpoint), provider, sets)) } : provider
}

/** A template, and where it stands in the configuration. */
interface Place {
  readonly place: string
  readonly template: RequestTemplate
}

function requestFaults(endpoint: NamedEndpointOptions, provider: ProviderOptions, place: string, before: Place[]): ConfigFault[] {
  const template =
    typeof endpoint.request === 'string' ? parseRequestTemplate(endpoint.request, { ignoreCase: provider.ignoreCase === true }) : undefined
  if (!template) return []
  const faults: ConfigFault[] = []
  const { protocol } = endpoint
  if (endpoint.safe && template.method !== 'POST') {
    faults.push({ path: `${place}.safe`, message: `is for POST only, not for ${template.method}` })
  }
  if (template.method !== 'GET' && !endpoint.safe && !protocol && (endpoint.freshFor ?? endpoint.freshUntil) !== undefined) {
    faults.push({
      path: `${place}.${endpoint.freshFor === undefined ? 'freshUntil' : 'freshFor'}`,
      message: `answers to ${template.method} are not reused, only those to GET, and to POST with "safe: true": leave it out, the calls are counted all the same`,
    })
  }
  const unrepeatable = template.method !== 'GET' && template.method !== 'HEAD' && !endpoint.safe && !protocol
  for (const option of ['retries', 'fallback', 'within', 'failsWhen'] as const) {
    if (endpoint[option] === undefined || !unrepeatable) continue
    const message = `does nothing for ${template.method}, whose calls are sent on once: it is for GET, and for POST with "safe: true"`
    faults.push({ path: `${place}.${option}`, message })
  }
  if (endpoint.targetedFields !== undefined && (endpoint.trust ?? 'rule') === 'rule') {
    faults.push({ path: `${place}.targetedFields`, message: 'does nothing without "trust": "upstream" or "shorter" at the same endpoint' })
  }
  const parameters = parametersOf(template)
  const isWrite = !['GET', 'HEAD', 'OPTIONS', 'TRACE'].includes(template.method) && !endpoint.safe
  faults.push(...labelFaults(endpoint, { parameters, isWrite, of: `the path of "${endpoint.request}"` }, place))
  const other = before.find((one) => areTied(one.template, template))
  if (other) {
    faults.push({
      path: `${place}.request`,
      message: `is no more and no less specific than that of ${other.place}: no request could tell which is meant`,
    })
  }
  before.push({ place, template })
  return faults
}

function readable(provider: ProviderOptions): NamedEndpointOptions[] {
  if (typeof provider.endpoints !== 'object' || provider.endpoints === null) return []
  return endpointList(provider).filter((endpoint) => recordOf(endpoint) !== undefined)
}

function baseOf(baseUrl: unknown): string | undefined {
  return typeof baseUrl === 'string' && URL.canParse(baseUrl) ? new URL(baseUrl).href.replace(/\/$/, '') : undefined
}

function recordOf(value: unknown): Record<string, unknown> | undefined {
  return typeof value === 'object' && value !== null && !Array.isArray(value) ? (value as Record<string, unknown>) : undefined
}
