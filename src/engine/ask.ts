import type { Facts } from '../core/decide/decide.js'
import type { NotKept } from '../core/decide/keep.js'
import type { Outcome } from '../core/decide/outcome.js'
import type { Entry } from '../core/ports/store.js'
import type { Endpoint } from '../core/rules/endpoint.js'
import type { AnswerFacts } from '../core/rules/freshness.js'
import type { Line } from './books.js'

/**
 * What an upstream call came to. `T` is the answer in the form its callers know. `earlier` counts calls answered on the way to it.
 */
export type Fetched<T> =
  | {
      readonly result: 'answered'
      readonly answer: T
      readonly status?: number
      readonly keep: (() => Kept) | NotKept
      readonly vary?: Vary
      readonly earlier?: number
    }
  /** The upstream refused or failed; where it said so in an answer, callers without an older one get that. */
  | { readonly result: 'refused' | 'failed'; readonly answer: T; readonly status?: number; readonly vary?: Vary; readonly earlier?: number }
  | { readonly result: 'failed'; readonly error: unknown; readonly earlier?: number }

/** The request fields by which an HTTP answer varies. */
type Vary = readonly string[] | '*'

/** The storable form of an answer. */
export interface Kept {
  readonly head: string
  readonly body: Uint8Array
  readonly memo: unknown
  readonly facts: AnswerFacts
}

/** One call of the application, with what the engine needs to answer it. */
export interface Ask<T> {
  readonly endpoint: Endpoint
  readonly line: Line
  readonly key: string
  /** The key of the variant that a request's fields choose, where answers of `key` vary by these (RFC 9111 section 4.1). */
  variantKey(fields: readonly string[]): string
  readonly special: Facts['special']
  readonly signal: AbortSignal | undefined
  /** Makes the upstream call; `stale` is the answer in store, whose validators may be asked about. Never rejects. */
  callUpstream(signal: AbortSignal, stale: Entry | undefined): Promise<Fetched<T>>
  /** The answer that an entry holds. */
  revive(entry: Entry): T
  /** A copy of an upstream call's answer for a caller who did not begin it. */
  copy(answer: T): T
}

export interface Answered<T> {
  readonly answer: T
  readonly outcome: Outcome
}
