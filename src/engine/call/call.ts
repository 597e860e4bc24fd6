import type { Facts } from '../../core/decide/decide.js'
import type { Endpoint } from '../../core/endpoints/endpoint.js'
import type { AtLimit, CallOptions } from '../../core/endpoints/options.js'
import type { SearchVariance } from '../../core/http/no-vary-search.js'
import type { Entry } from '../../core/ports/entry-store.js'
import type { Maybe } from '../../core/ports/maybe.js'
import { durationMs } from '../../core/time/duration.js'
import type { Cancellation } from '../cancellation.js'
import type { EndpointCounter } from '../ledger/endpoint-counter.js'
import type { AnswerForm } from './answer-form.js'
import type { Fetched } from './fetched.js'
import type { Relaying } from './relaying.js'

/** On which terms a call is made: as its rule says, or as its caller wants it. Durations are milliseconds. */
export interface CallTerms {
  readonly neverStale: boolean
  readonly atLimit: AtLimit
  readonly maxWaitMs: number
  readonly withinMs: number | undefined
  /** `nobodyWaits`: it does not queue. */
  readonly urgency: { inBackground: boolean; readonly nobodyWaits?: boolean }
  readonly signal: AbortSignal | undefined
  /** Whether a new answer is asked for, whatever is stored. */
  readonly reload: boolean
  /** Whether nothing stored is used, and nothing is stored. */
  readonly bypass: boolean
  readonly label: string | undefined
}

/** The terms of a call. */
export function termsOf(endpoint: Endpoint, wanted: CallOptions | undefined, signal?: AbortSignal): CallTerms {
  return {
    neverStale: endpoint.neverStale || wanted?.neverStale === true,
    atLimit: wanted?.atLimit ?? endpoint.atLimit,
    maxWaitMs: durationMs(wanted?.maxWait) ?? endpoint.maxWaitMs,
    withinMs: durationMs(wanted?.within) ?? endpoint.withinMs,
    urgency: { inBackground: wanted?.background === true },
    signal: signal ?? wanted?.signal,
    reload: wanted?.reload === true,
    bypass: wanted?.bypass === true,
    label: wanted?.label,
  }
}

/** One thing the application asked for, with what the engine needs to answer it. `T` is the answer in the form its callers know. */
export interface Call<T> extends Pick<Facts, 'bypass' | 'excerpt' | 'directives'> {
  readonly endpoint: Endpoint
  readonly counter: EndpointCounter
  readonly terms: CallTerms
  /** Whose call it is, where its endpoint counts these apart. */
  readonly countedFor: string | undefined
  readonly form: AnswerForm<T>
  /** Undefined where nothing of it can be found again. */
  readonly key: string | undefined
  /** What of it a hold-off is for, where its endpoint covers many paths. */
  readonly path?: string | undefined
  /** Whether it goes by untouched, for no rule holds for it. */
  readonly isPassed: boolean
  /** Where it is recorded which parameters of the query matter, and the key where only those count; undefined for operations. */
  readonly search: { readonly signpostKey: string; key(variance: SearchVariance): string } | undefined
  /** Labels of its answer; null where only that says, and undefined where it has none. */
  readonly labels: readonly string[] | null | undefined
  /** Whether the upstream call may be made again. */
  readonly isRepeatable: boolean
  /** Of an HTTP call: its method, and its URL without credentials. */
  readonly sent: { readonly method?: string; readonly url?: string }
  /** How it is answered with what another process shows; undefined where it cannot be. */
  readonly relaying?: Relaying<T> | undefined
  /** The key of the variant of `base` that a request's fields choose, where its answers vary by these (RFC 9111 section 4.1). */
  variantKey(base: string, fields: readonly string[]): string
  /** Whether the call can be answered with what is stored, if that may be used at all. */
  canServe(entry: Entry): boolean
  /**
   * Makes the upstream call, until `ending` aborts; aborts it itself once nobody reads the answer any more. `toRevalidate` is the answer in
   * store, whose validators may be asked about. `leave` is waited for before each call that leaves. Never rejects.
   */
  callUpstream(ending: Cancellation, toRevalidate: Entry | undefined, leave: () => Maybe<void>): Promise<Fetched<T>>
}
