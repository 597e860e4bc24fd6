import type { Keeping, NotKept } from '../../core/decide/keep.js'
import type { Units } from '../../core/money/units.js'
import type { Fetched } from '../call/fetched.js'
import type { Place } from './place.js'

/** What became of an upstream call's answer. */
export type Ended =
  | { readonly stored: Keeping }
  | { readonly notStored: NotKept }
  | { readonly broken: unknown }
  | { readonly amiss: true }
  | { readonly abandoned: unknown }

/** The units that a call cost: those that its answer tells, and with the most that others may be. */
export interface Usage {
  readonly known?: Units | undefined
  readonly used?: Units | undefined
}

/** An upstream call that can be answered. */
export interface Landed<T> {
  readonly fetched: Fetched<T>
  readonly place: Place
  /** Settles when nothing of the call is left to do; never rejects. */
  readonly finished: Promise<unknown>
  /** Settles when no more of the answer is kept, though callers may still read it. */
  readonly settled: Promise<unknown>
  /** Upstream calls made for it. */
  readonly attempts: number
  /** Calls back as soon as it is known what became of the answer, and before callers see its end. */
  onEnd(then: (ended: Ended, usage: Usage) => void): void
}
