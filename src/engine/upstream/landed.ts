import type { Keeping, NotKept } from '../../core/decide/keep.js'
import type { Units } from '../../core/money/units.js'
import type { ClaimEnd } from '../../core/ports/claims.js'
import type { Entry } from '../../core/ports/entry-store.js'
import type { Maybe } from '../../core/ports/maybe.js'
import type { Fetched, Finished } from '../call/fetched.js'
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

/** A process that shares the store had asked already. `end`: how that ended, which was waited for; undefined where an answer is stored since this one looked. */
export interface MadeElsewhere {
  readonly result: 'elsewhere'
  readonly end: ClaimEnd | undefined
  /** What is stored under a key by now: looked up once for all who waited. */
  look(key: string): Maybe<Entry | undefined>
}

/** An upstream call that can be answered. */
export interface Landed<T> {
  readonly fetched: Fetched<T> | MadeElsewhere
  readonly place: Place
  /**
   * Whether something newer is known than what came, by now: a process that shares the store has purged or invalidated it, or asked again. Left out where
   * that cannot be known.
   */
  readonly isLost?: () => Maybe<boolean>
  /** Whether another process made the call, which shows its answer while it arrives. */
  readonly isRelayed?: boolean
  /** Of one that is relayed: whether a call of our own had to take its place, which counts for one of its callers: true once. */
  readonly takeOwn?: () => boolean
  /** Settles when nothing of the call is left to do; never rejects. */
  readonly finished: Promise<unknown>
  /** Settles when no more of the answer is kept, though callers may still read it. */
  readonly settled: Promise<unknown>
  /** Upstream calls made for it. */
  readonly attempts: number
  /** Calls back as soon as it is known how the answer came to its end, and before callers see that. */
  onWhole(then: (finished: Finished, usage: Usage) => void): void
  /** Calls back as soon as it is known what became of the answer: before callers see its end, if it is stored at once. */
  onEnd(then: (ended: Ended) => void): void
}
