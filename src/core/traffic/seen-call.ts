import type { Protocol } from '../protocols/protocol.js'
import type { KeyPart } from './key-splits.js'

/** One HTTP call that a program made, as it was seen to leave and come back. Holds no credential: keys and answers are digests. */
export interface SeenCall {
  /** When it left: milliseconds since 1970-01-01T00:00Z. */
  readonly at: number
  /** Milliseconds until all of its answer was there, or it had failed. */
  readonly ms: number
  readonly method: string
  /** Scheme, host and port. */
  readonly origin: string
  /** The path without the query. */
  readonly path: string
  /** A digest of all that may choose the answer: method, URL, the caller, the body, fields such as `Accept`. */
  readonly key: string
  /** Of the key: a digest of what is no query parameter and no request field. */
  readonly base: string
  /** Of the key: its query parameters and request fields, by name, their values as digests. */
  readonly parts: readonly KeyPart[]
  /** What its body is, where that shows. */
  readonly protocol?: Protocol | undefined
  /** The operation or method that it names. */
  readonly operation?: string | undefined
  /** Whether it is an operation that only asks. */
  readonly isQuery?: boolean | undefined
  /** Undefined where no answer came. */
  readonly status: number | undefined
  /** Bytes of the body as they came over the wire. */
  readonly bytes: number
  /** A digest of the body; undefined where not all of it came. */
  readonly answer: string | undefined
}

/** Whether a call brought an answer that another caller could have been given: whole, and a success (RFC 9110 section 15.3). */
export function isReusable({ method, isQuery, status, answer }: SeenCall): boolean {
  return (method === 'GET' || isQuery === true) && status !== undefined && status >= 200 && status < 300 && answer !== undefined
}
