import type { Cancellation } from '../cancellation.js'
import type { Fetched } from './fetched.js'

/** How answers are given that another process shows while they arrive. */
export interface Relaying<T> {
  /** The answer of a head that was shown, and of a body that comes. */
  answer(head: string, body: ReadableStream<Uint8Array>, ending: Cancellation): Promise<Fetched<T>>
  /** Whether one answer may go on with the body of another, if that begins as its own: as far as their heads say, they are the same. */
  isSame(one: T, other: T): boolean
  /** The body of an answer, from the first byte on. */
  bodyOf(answer: T): ReadableStream<Uint8Array>
}
