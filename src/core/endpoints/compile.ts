import { defaults } from '../defaults.js'
import type { Limit } from '../limits/limit.js'
import type { Protocol, ProtocolReader } from '../protocols/protocol.js'
import { type Credentials, compileCredentials } from '../rules/credentials.js'
import { compileFailure } from '../rules/failure.js'
import { compileFreshness, longestFreshMs } from '../rules/freshness.js'
import { compileKeying } from '../rules/keying.js'
import { compileLabels, type EndpointLabel, type LabelFacts, type Labels } from '../rules/labels.js'
import type { Mode } from '../rules/mode.js'
import { normalisePercent } from '../rules/normalise-url.js'
import { parseRequestTemplate, type RequestTemplate, segmentsOf } from '../rules/request-template.js'
import { unitsUpTo } from '../rules/units.js'
import { durationMs } from '../time/duration.js'
import type { ByKind, Endpoint, Provider, RequestEndpoint } from './endpoint.js'
import { type EndpointRule, endpointRules } from './endpoint-rules.js'
import type { NamedEndpointOptions, Refusals, ReuseOptions } from './options.js'
import type { ProviderOptions } from './provider-options.js'
import { hasTerms, noTerms, type TermsCompiler } from './terms.js'
import { unmatched } from './unmatched.js'

/** What of a configuration holds for more than one provider. */
export interface Common {
  readonly mode: Mode
  readonly sets: Readonly<Record<string, ReuseOptions>>
  readonly refusals: Refusals
  /** What compiles limits, prices and timetables: needed where `haveTerms` finds any. */
  readonly terms?: TermsCompiler | undefined
  /** What reads protocols: needed where an endpoint speaks one. */
  readonly readers?: Readonly<Record<Protocol, ProtocolReader>> | undefined
  /** Whether a call has no time limit where no timeout is given, as one of a function has none. */
  readonly isUntimed?: boolean
}

/** Compiles the options of one provider. They have been checked: nothing here can fail. */
export function compileProvider(name: string, options: ProviderOptions, common: Common): Provider {
  const credentials = compileCredentials(options)
  const rules = endpointRules(options, common.sets)
  const endpoints = rules.flatMap((rule): RequestEndpoint[] => {
    const template = parseRequestTemplate(rule.endpoint.request, options)
    if (!template || rule.operation) return []
    const place = { provider: name, options, common, template, credentials }
    const reader = rule.endpoint.protocol && common.readers?.[rule.endpoint.protocol]
    if (rule.endpoint.protocol && !reader) throw new TypeError('a protocol without what reads it')
    if (!reader) return [compileRequests(rule, place, template.method === 'GET' || rule.endpoint.safe === true)]
    const its = rules.filter(({ operation }) => operation?.of === rule.name)
    return [speaking(reader, place, rule, its)]
  })
  return {
    name,
    mode: options.mode ?? common.mode,
    base: options.baseUrl === undefined ? undefined : baseOf(options.ignoreCase ? options.baseUrl.toLowerCase() : options.baseUrl),
    ignoresCase: options.ignoreCase ?? false,
    credentials,
    caller: options.caller,
    endpoints,
    rest: passedEndpoint(compileEndpoint(name, unmatched, {}, options, common)),
  }
}

/** Where in a configuration a rule stands, and what it is compiled with. */
interface RulePlace {
  readonly provider: string
  readonly options: ProviderOptions
  readonly common: Common
  readonly template: RequestTemplate
  readonly credentials: Credentials
}

/** Compiles a rule for requests. `mayReuse`: whether they only ask (RFC 9110 section 9.2.1). */
function compileRequests({ name, endpoint, rule }: EndpointRule, place: RulePlace, mayReuse: boolean): RequestEndpoint {
  const { provider, options, common, template, credentials } = place
  const compiled = compileEndpoint(provider, name, rule, options, common)
  const { shared = false, targetedFields = [], replaySetCookie = false } = endpoint
  return {
    ...compiled,
    freshForMs: mayReuse ? compiled.freshForMs : undefined,
    isTended: mayReuse && (compiled.freshForMs !== undefined || isTended(compiled, endpoint)),
    ...(mayReuse && compiled.freshForMs !== undefined && { holdOff: compileHoldOff(rule.holdOff) }),
    audience: { shared, targets: targetedFields.map((field) => field.toLowerCase()) },
    labels: compileLabels(endpoint.labels, saidLabels),
    invalidates: compileLabels(endpoint.invalidates, saidLabels),
    exceptRequest: typeof rule.reuse === 'object' ? rule.reuse.exceptRequest : undefined,
    template,
    replaySetCookie,
    isStream: endpoint.stream ?? false,
    refusals: endpoint.refusals ?? compiled.refusals,
    fallback: endpoint.fallback,
    repeatable: mayReuse || template.method === 'HEAD',
    spoken: undefined,
    keying: compileKeying(
      { provider, name },
      { ...endpoint, version: rule.version },
      template.query.map(([parameter]) => parameter),
      credentials,
    ),
  }
}

/** An endpoint whose requests are read before it is known what holds for them: one that cannot be read is a write. */
function speaking(reader: ProtocolReader, place: RulePlace, rule: EndpointRule, named: readonly EndpointRule[]): RequestEndpoint {
  const kinds = (one: EndpointRule, outer: readonly Limit[]): ByKind => {
    const of = (mayReuse: boolean): RequestEndpoint => {
      const compiled = compileRequests(one, place, mayReuse)
      const own = one.rule.limits?.length ?? 0
      const limits = outer.length === 0 ? compiled.limits : [...outer, ...compiled.limits.slice(compiled.limits.length - own)]
      return { ...compiled, limits, isGivenWhole: mayReuse && !compiled.isStream }
    }
    const [query, write] = [of(true), of(false)]
    return { query, write, unknown: query.freshForMs === undefined ? write : query }
  }
  const usual = kinds(rule, [])
  const byName = new Map(named.map((one) => [one.operation?.name as string, kinds(one, usual.write.limits)]))
  return { ...usual.write, spoken: { reader, documents: rule.endpoint.documents, usual, byName } }
}

function saidLabels(source: Extract<EndpointLabel, (...args: never[]) => Labels>, { request, answer }: LabelFacts): Labels {
  if (!request || !answer) throw new TypeError('it has no labels yet')
  return source(request, answer)
}

/** What stands for calls that no endpoint covers. */
function passedEndpoint(compiled: Endpoint): RequestEndpoint {
  const template = { method: '', path: [], query: [] }
  const keying = compileKeying({ provider: compiled.provider, name: compiled.name }, {})
  const passed = { template, keying, exceptRequest: undefined, labels: undefined, invalidates: undefined, isTended: false }
  return { ...compiled, ...passed, replaySetCookie: true, fallback: undefined, repeatable: false, spoken: undefined }
}

/** What stands for calls to no known provider: they pass no gate, and take as long as they like. */
export function unknownProvider(common: Common): RequestEndpoint {
  const forever = Number.POSITIVE_INFINITY
  const timeouts = { firstByteMs: forever, idleMs: forever, totalMs: undefined, leaseMs: forever }
  return { ...passedEndpoint(compileEndpoint(unmatched, unmatched, {}, {}, common)), timeouts, isGated: false }
}

/** Compiles the resolved options of one endpoint or operation of a provider. */
export function compileEndpoint(provider: string, name: string, reuse: ReuseOptions, options: ProviderOptions, common: Common): Endpoint {
  const { terms } = common
  if (!terms && hasTerms(reuse, options)) throw new TypeError('limits, prices or timetables without what compiles them')
  const freshness = compileFreshness(reuse, terms?.nextPublication)
  const { trust = defaults.trust } = reuse
  const freshForStatus = statusMap(reuse.freshForStatus)
  const statusMs = [...freshForStatus.values()].filter((ms) => ms !== 'never')
  const slidingMs = durationMs(reuse.sliding?.upTo)
  const longest = trust === 'rule' ? longestFreshMs(freshness, [...statusMs, slidingMs ?? 0]) : Number.POSITIVE_INFINITY
  const freshForMs = reuse.reuse === 'never' ? undefined : longest
  return {
    provider,
    name,
    mode: reuse.mode ?? options.mode ?? common.mode,
    version: reuse.version,
    ...{ trust, freshness, freshForStatus, slidingMs },
    freshForMs,
    staleWhileRevalidateMs: durationMs(reuse.staleWhileRevalidate ?? 0) as number,
    audience: { shared: false, targets: [] },
    exceptAnswer: typeof reuse.reuse === 'object' ? reuse.reuse.exceptAnswer : undefined,
    maxBodyBytes: reuse.maxBodyBytes ?? defaults.maxBodyBytes,
    maxEntries: reuse.maxEntries,
    staleIfErrorMs: durationMs(reuse.staleIfError ?? 0) as number,
    holdOff: compileHoldOff(reuse.holdOff ?? 0),
    timeouts: compileTimeouts(reuse.timeout ?? options.timeout, common.isUntimed),
    withinMs: durationMs(reuse.within),
    retries: compileRetries(reuse.retries),
    refreshAheadMs: durationMs(reuse.refreshAhead ?? 0) as number,
    believeUpToMs: durationMs(options.believeUpTo),
    isGated: true,
    isStream: false,
    isGivenWhole: false,
    refusals: options.refusals ?? common.refusals,
    atLimit: reuse.atLimit ?? defaults.atLimit,
    maxWaitMs: durationMs(reuse.maxWait ?? defaults.maxWait) as number,
    queue: options.queue ?? defaults.queue,
    neverStale: reuse.neverStale ?? false,
    collapsesAll: (reuse.collapse ?? defaults.collapse) === 'all-processes',
    failure: compileFailure(reuse.failsWhen),
    countBy: reuse.countBy,
    units: reuse.units,
    unitsUpTo: unitsUpTo(reuse.units),
    countedAt: options.plan?.countedAt ?? defaults.countedAt,
    unbilled: options.plan?.notBilled ?? [],
    ...(terms ? terms.compileTerms(name, reuse, options) : noTerms),
  }
}

/** Whether something is to be done about calls whose answers are not stored. */
function isTended({ retries, withinMs, failure, countBy }: Endpoint, { fallback }: NamedEndpointOptions): boolean {
  return (
    countBy === 'per' ||
    retries.upTo > 0 ||
    withinMs !== undefined ||
    fallback !== undefined ||
    failure.test !== undefined ||
    failure.statuses.size > 0
  )
}

function compileHoldOff(options: ReuseOptions['holdOff'] = {}): Endpoint['holdOff'] {
  const { first = defaults.holdOffFirst, upTo = defaults.holdOffUpTo } = typeof options === 'object' ? options : { first: options }
  const firstMs = durationMs(first) as number
  return { firstMs, upToMs: Math.max(firstMs, durationMs(upTo) as number) }
}

function compileTimeouts(options: ReuseOptions['timeout'] = {}, isUntimed = false): Endpoint['timeouts'] {
  const { firstByte, idle, total } = typeof options === 'object' ? options : { firstByte: options, idle: options, total: options }
  const totalMs = durationMs(total)
  const within = (ms: number) => Math.min(ms, totalMs ?? Number.POSITIVE_INFINITY)
  const [firstByteMs, idleMs] = [durationMs(firstByte), durationMs(idle)]
  const [usualFirst, usualIdle] = [durationMs(defaults.firstByte) as number, durationMs(defaults.idle) as number]
  return {
    firstByteMs: within(firstByteMs ?? (isUntimed ? Number.POSITIVE_INFINITY : usualFirst)),
    idleMs: within(idleMs ?? (isUntimed ? Number.POSITIVE_INFINITY : usualIdle)),
    totalMs,
    leaseMs: within((firstByteMs ?? usualFirst) + (idleMs ?? usualIdle)) + 1_000,
  }
}

function compileRetries(options: ReuseOptions['retries'] = defaults.retries): Endpoint['retries'] {
  const { upTo, share = defaults.retryShare } = typeof options === 'object' ? options : { upTo: options }
  return { upTo, share }
}

function statusMap(freshForStatus: ReuseOptions['freshForStatus'] = {}): Endpoint['freshForStatus'] {
  return new Map(Object.entries(freshForStatus).map(([status, fresh]) => [Number(status), durationMs(fresh) ?? 'never']))
}

function baseOf(baseUrl: string): NonNullable<Provider['base']> {
  const url = new URL(baseUrl)
  const path = normalisePercent(url.pathname).replace(/\/$/, '')
  return { origin: url.origin, segments: path === '' ? [] : segmentsOf(path) }
}
