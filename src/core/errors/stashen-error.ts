import type { ErrorCode } from './catalogue.js'

/** Marks errors of this library, so that two copies of the package in one tree recognise each other's. */
const brand = Symbol.for('stashen.error')

/** The base of every error thrown by this library. `code` is stable, `message` says what to do next. */
export class StashenError extends Error {
  override readonly name: string = 'StashenError'
  readonly [brand] = true
  /** Which provider and endpoint it is about; undefined where it is about none, or not known. */
  readonly provider: string | undefined = undefined
  readonly endpoint: string | undefined = undefined

  constructor(
    readonly code: ErrorCode,
    message: string,
    options?: { cause?: unknown },
  ) {
    super(message, options)
  }
}

/** Recognises an error of this library, of any copy of it. */
export function isStashenError(thing: unknown): thing is StashenError {
  return typeof thing === 'object' && thing !== null && brand in thing
}
