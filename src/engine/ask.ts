import type { Facts } from '../core/decide/decide.js'
import type { Keeping, NotKept } from '../core/decide/keep.js'
import type { Outcome } from '../core/decide/outcome.js'
import type { SearchVariance } from '../core/http/no-vary-search.js'
import type { Entry } from '../core/ports/store.js'
import type { Endpoint } from '../core/rules/endpoint.js'
import type { Line } from './books.js'

/** What every upstream call that gave an answer came to. `T` is the answer in the form its callers know. */
interface Arrived<T> {
  readonly answer: T
  readonly status?: number
  /** The request fields by which it varies. */
  readonly vary?: readonly string[] | '*'
  /** The query parameters that do not matter to it. */
  readonly search?: SearchVariance | undefined
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

export type Finished = { readonly kept: Kept } | { readonly notKept: NotKept } | { readonly broken: unknown }

export type Fetched<T> =
  | ({ readonly result: 'answered' } & Arrived<T>)
  /** The upstream refused or failed; where it said so in an answer, callers without an older one get that. */
  | ({ readonly result: 'refused' | 'failed' } & Arrived<T>)
  | { readonly result: 'failed'; readonly error: unknown; readonly earlier?: number }

/** A whole answer, ready to be stored. */
export interface Kept {
  /** Whether and how it is kept under a key. Throws what a function of the configuration throws. */
  judge(key: string): Keeping | NotKept
  form(keeping: Keeping): { readonly head: string; readonly body: Uint8Array; readonly memo: unknown }
}

/** One call of the application, with what the engine needs to answer it. */
export interface Ask<T, E extends Endpoint = Endpoint> extends Pick<Facts, 'bypass' | 'excerpt' | 'wishes'> {
  readonly endpoint: E
  readonly line: Line
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
   * store, whose validators may be asked about. Never rejects.
   */
  callUpstream(ending: AbortController, stale: Entry | undefined): Promise<Fetched<T>>
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
