import type { Cancellation } from '../cancellation.js'
import type { Fetched } from './fetched.js'

/** How answers are given that another process shows while they arrive. */
export interface Relaying<T> {
  /** The answer of a head that was shown, and of a body that comes. */
  answer(head: string, body: ReadableStream<Uint8Array>, ending: Cancellation): Promise<Fetched<T>>
  /** The body of an answer, from the first byte on. */
  bodyOf(answer: T): ReadableStream<Uint8Array>
}
