import type { Entry } from '../../core/ports/entry-store.js'

/** How the answers of an endpoint are restored, copied and shared. Made once an endpoint. */
export interface AnswerForm<T> {
  /** The answer that an entry holds. Throws where it holds none. */
  restore(entry: Entry): T
  /** The status of an HTTP answer. */
  statusOf(answer: T): number | undefined
  /** Whether each use of an entry makes it fresh for longer, where the rule slides. */
  slides(entry: Entry): boolean
  /** Whether one more caller can still get all of an upstream call's answer. */
  canJoin(answer: T): boolean
  /** A copy of an upstream call's answer for a caller who did not begin it. */
  copy(answer: T): T
  /** The default answer, where the endpoint has one. */
  readonly fallback: (() => T) | undefined
}
