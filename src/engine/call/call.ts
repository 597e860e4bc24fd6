import type { Facts, WithheldFor } from '../../core/decide/decide.js'
import type { Keeping, NotKept } from '../../core/decide/keep.js'
import type { Outcome } from '../../core/decide/outcome.js'
import type { Endpoint } from '../../core/endpoints/endpoint.js'
import type { AtLimit, CallOptions } from '../../core/endpoints/options.js'
import type { SearchVariance } from '../../core/http/no-vary-search.js'
import type { Reported } from '../../core/limits/reported-limits.js'
import type { Units } from '../../core/money/units.js'
import type { Entry } from '../../core/ports/entry-store.js'
import { durationMs } from '../../core/time/duration.js'
import type { EndpointCounter } from '../ledger/ledger-writer.js'

/** What every upstream call that gave an answer came to. `T` is the answer in the form its callers know. */
interface Arrived<T> {
  readonly answer: T
  readonly status?: number
  /** The request fields by which it varies. */
  readonly vary?: readonly string[] | '*'
  /** The query parameters that do not matter to it. */
  readonly search?: SearchVariance | undefined
  /** What it says of the provider's limits. */
  readonly told?: Reported | undefined
  /** Upstream calls answered on the way to it. */
  readonly earlier?: number
  /** Whether and how it is kept under a key, as far as that is known; undefined while it takes the whole answer to say. */
  readonly judged?: ((key: string) => Keeping | NotKept) | undefined
  /** Whether it is whole already. */
  readonly whole?: boolean
  /** Reads the rest of it. Call once; never rejects. */
  finish(): Promise<Finished>
  /** Lets callers see its end: called once it is stored. */
  release(): void
}

/** `amiss`: it is whole, and says that it failed, or is no JSON though it says so. */
export type Finished = { readonly kept: Kept } | { readonly notKept: NotKept } | { readonly broken: unknown } | { readonly amiss: Error }

/** Where the upstream refused or failed, callers without an older answer get the one that says so. */
export type WithAnswer<T> = { readonly result: 'answered' | 'refused' | 'failed' } & Arrived<T>

export type Fetched<T> =
  | WithAnswer<T>
  | { readonly result: 'failed'; readonly error: unknown; readonly earlier?: number }
  /** The call never left: a limit, a budget or a hold-off stood in its way, or its callers had gone. */
  | {
      readonly result: 'withheld'
      readonly error: unknown
      readonly failure: Exclude<WithheldFor, 'overdue'> | undefined
      readonly earlier?: number
    }

/** A whole answer, ready to be stored. */
export interface Kept {
  /** Units that it cost, by name. */
  readonly units?: Units | undefined
  /** Whether and how it is kept under a key. Throws what a function of the configuration throws. */
  judge(key: string): Keeping | NotKept
  form(keeping: Keeping): { readonly head: string; readonly body: Uint8Array; readonly memo: unknown }
}

/** On which terms a call is made: as its rule says, or as its caller wants it otherwise. Durations are milliseconds. */
export interface CallTerms {
  readonly neverStale: boolean
  readonly atLimit: AtLimit
  readonly maxWaitMs: number
  readonly withinMs: number | undefined
  /** When it has to be answered, in ticks of the clock; undefined until it begins, and where it may take its time. */
  readonly deadline?: number | undefined
  /** `nobodyWaits`: it does not queue. */
  readonly urgency: { inBackground: boolean; readonly nobodyWaits?: boolean }
}

/** The terms of a call. */
export function termsOf(endpoint: Endpoint, wanted: CallOptions | undefined): CallTerms {
  return {
    neverStale: endpoint.neverStale || wanted?.neverStale === true,
    atLimit: wanted?.atLimit ?? endpoint.atLimit,
    maxWaitMs: durationMs(wanted?.maxWait) ?? endpoint.maxWaitMs,
    withinMs: durationMs(wanted?.within) ?? endpoint.withinMs,
    urgency: { inBackground: wanted?.background === true },
  }
}

/** One call of the application, with what the engine needs to answer it. */
export interface Ask<T, E extends Endpoint = Endpoint> extends Pick<Facts, 'bypass' | 'excerpt' | 'directives' | 'neverStale'>, CallTerms {
  readonly endpoint: E
  readonly line: EndpointCounter
  readonly key: string
  /** The key of the variant of `base` that a request's fields choose, where its answers vary by these (RFC 9111 section 4.1). */
  variantKey(base: string, fields: readonly string[]): string
  /** Where it stands which parameters of the query matter, and the key where only those count; undefined for operations. */
  readonly search: { readonly signpostKey: string; key(variance: SearchVariance): string } | undefined
  readonly signal: AbortSignal | undefined
  /** Whether the call can be answered with what is stored, if that may be used at all. */
  canServe(entry: Entry): boolean
  /**
   * Makes the upstream call, until `ending` aborts; aborts it itself once nobody reads the answer any more. `stale` is the answer in
   * store, whose validators may be asked about. `leave` is waited for before each call that leaves. Never rejects.
   */
  callUpstream(ending: AbortController, stale: Entry | undefined, leave: () => Promise<void>): Promise<Fetched<T>>
  /** Whether the upstream call may be made again. */
  readonly repeatable: boolean
  /** The default answer, where the endpoint has one. */
  readonly fallback: (() => T) | undefined
  /** Of an HTTP call: its method, and its URL without credentials. */
  readonly sent: { readonly method?: string; readonly url?: string }
  /** Whether each use of an entry makes it fresh for longer, where the rule slides. */
  slides(entry: Entry): boolean
  /** The answer that an entry holds. */
  revive(entry: Entry): T
  /** Whether one more caller can still get all of an upstream call's answer. */
  canJoin(answer: T): boolean
  /** A copy of an upstream call's answer for a caller who did not begin it. */
  copy(answer: T): T
}

export interface Answered<T> {
  readonly answer: T
  readonly outcome: Outcome
}
