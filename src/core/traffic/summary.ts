import { grouped } from '../grouped.js'
import type { Protocol } from '../protocols/protocol.js'
import { inferEndpoints } from './infer-endpoints.js'
import { type KeySplit, KeySplits } from './key-splits.js'
import type { SeenCall } from './seen-call.js'
import { fittingLifetime, triedLifetimes, type WhatIf, whatIf } from './what-if.js'

/** What the calls to one endpoint came to. */
export interface EndpointSummary {
  readonly name: string
  /** Method and path template. */
  readonly request: string
  readonly calls: number
  /** Calls that asked what had been asked before. */
  readonly repeats: number
  /** Those of them that brought the very bytes of the answer before. */
  readonly same: number
  /** Calls that took a second or longer. */
  readonly slow: number
  /** Answers with status 429 (RFC 6585 section 4) or 503 (RFC 9110 section 15.6.4). */
  readonly refused: number
  /** Calls that brought no answer, or a status of 500 and above that is no refusal. */
  readonly failed: number
  /** Bytes of bodies as they came over the wire. */
  readonly bytes: number
  /** Milliseconds that callers waited, in all. */
  readonly ms: number
  /** Milliseconds that half of the calls took at most. */
  readonly medianMs: number
  /** What reuse for some lifetimes would have saved. */
  readonly whatIf: readonly WhatIf[]
  /** The lifetime that would have saved most of those that gave nobody an answer out of date, as far as was watched. */
  readonly fitting: WhatIf | undefined
  /** What its bodies are, where all of them are. */
  readonly protocol: Protocol | undefined
  /** Its operations or methods, those of most calls first, with how often each asked what had been asked before, and brought the same. */
  readonly operations: readonly OperationSummary[]
  /** What keeps its requests apart without need. */
  readonly splits: readonly KeySplit[]
}

export interface OperationSummary {
  readonly name: string
  readonly calls: number
  readonly repeats: number
  readonly same: number
}

export interface ProviderSummary {
  readonly name: string
  readonly baseUrl: string
  readonly endpoints: readonly EndpointSummary[]
}

/** What was seen of a program's calls. */
export interface TrafficSummary {
  readonly calls: number
  readonly repeats: number
  readonly same: number
  /** Milliseconds from the first call that left to the end of the last. */
  readonly watchedMs: number
  readonly providers: readonly ProviderSummary[]
}

const slowMs = 1_000

/** Calls of an endpoint that are looked at for what splits its keys. */
const mostSplit = 500

/** Sums up calls, in whatever order they come. */
export function summaryOf(seen: readonly SeenCall[]): TrafficSummary {
  const calls = [...seen].sort((a, b) => a.at - b.at)
  const end = calls.reduce((latest, { at, ms }) => Math.max(latest, at + ms), 0)
  const watchedMs = calls.length === 0 ? 0 : end - (calls[0]?.at ?? 0)
  const providers = inferEndpoints(calls).map(({ name, baseUrl, endpoints }) => ({
    ...{ name, baseUrl },
    endpoints: endpoints.map((endpoint) => ({ name: endpoint.name, request: endpoint.request, ...counted(endpoint.calls, watchedMs) })),
  }))
  const sum = (of: 'calls' | 'repeats' | 'same') =>
    providers.reduce((all, { endpoints }) => endpoints.reduce((some, one) => some + one[of], all), 0)
  return { calls: sum('calls'), repeats: sum('repeats'), same: sum('same'), watchedMs, providers }
}

function counted(calls: readonly SeenCall[], watchedMs: number): Omit<EndpointSummary, 'name' | 'request'> {
  const { repeats, same } = repeated(calls)
  let [slow, refused, failed, bytes, ms] = [0, 0, 0, 0, 0]
  for (const call of calls) {
    if (call.ms >= slowMs) slow++
    if (call.status === 429 || call.status === 503) refused++
    else if (call.status === undefined || call.status >= 500) failed++
    bytes += call.bytes
    ms += call.ms
  }
  const whatIfs = triedLifetimes.map((lifetime) => whatIf(calls, lifetime))
  const splits = new KeySplits()
  for (const { base, parts, answer } of calls.slice(0, mostSplit)) splits.add(base, parts, answer)
  return {
    ...{ calls: calls.length, repeats, same, slow, refused, failed, bytes, ms },
    medianMs: calls.map((call) => call.ms).sort((a, b) => a - b)[Math.ceil(calls.length / 2) - 1] ?? 0,
    whatIf: whatIfs,
    fitting: fittingLifetime(whatIfs, watchedMs),
    splits: splits.found(),
    ...spokenBy(calls),
  }
}

/** How many calls asked what had been asked before, and how many of them brought the answer before. */
function repeated(calls: readonly SeenCall[]): { readonly repeats: number; readonly same: number } {
  const answers = new Map<string, string | undefined>()
  let [repeats, same] = [0, 0]
  for (const { key, answer } of calls) {
    if (answers.has(key)) repeats++
    if (answer !== undefined && answers.get(key) === answer) same++
    if (answer !== undefined || !answers.has(key)) answers.set(key, answer)
  }
  return { repeats, same }
}

/** Operations that are listed of an endpoint, at the most. */
const mostOperations = 20

function spokenBy(calls: readonly SeenCall[]): Pick<EndpointSummary, 'protocol' | 'operations'> {
  const protocol = calls[0]?.protocol
  if (protocol === undefined || calls.some((call) => call.protocol !== protocol)) return { protocol: undefined, operations: [] }
  const named = calls.filter(({ operation }) => operation !== undefined)
  const operations = [...grouped(named, ({ operation }) => operation as string)].map(([name, its]) => ({
    name,
    calls: its.length,
    ...repeated(its),
  }))
  return { protocol, operations: operations.sort((a, b) => b.calls - a.calls).slice(0, mostOperations) }
}
