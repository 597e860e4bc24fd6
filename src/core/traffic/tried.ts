import type { Outcome } from '../decide/outcome.js'

/** How one call was answered. */
export interface TryStep {
  readonly name: 'bare' | 'first' | 'again' | 'expired' | 'cut-off'
  /** Milliseconds until the whole body was there. */
  readonly ms: number
  readonly status: number | undefined
  /** What the stash did; undefined for the bare call. */
  readonly how: Outcome['how'] | undefined
  readonly reason: Outcome['reason'] | undefined
  readonly ageMs: number | undefined
  /** Why no answer came. */
  readonly error: string | undefined
}

export interface Tried {
  readonly endpoint: string
  /** How long the answer was fresh, milliseconds; undefined where it was not stored. */
  readonly freshForMs: number | undefined
  /** Why it was not stored. */
  readonly notStored: string | undefined
  readonly steps: readonly TryStep[]
  readonly load: {
    readonly calls: number
    readonly atOnce: number
    readonly ms: number
    readonly medianMs: number
    readonly failed: number
  }
  /** Calls that left, those at the end and the bare one included. */
  readonly upstreamCalls: number
}
