import type { Endpoint } from '../../core/endpoints/endpoint.js'
import type { LimitedCall } from '../../core/limits/provider-state.js'
import type { Clock } from '../../core/ports/clock.js'
import type { Store } from '../../core/ports/store.js'
import type { Events } from '../events.js'

export interface GateParts {
  readonly store: Store
  readonly clock: Clock
  readonly events: Events
  /** A number from 0 to 1, another each time. */
  readonly random: () => number
  /** Counts calls that others made to a provider with the same key. */
  readonly countOthers: (provider: string, calls: number) => void
  /** Tells this process from others that share the store. */
  readonly process: string
}

/** A call that wants to leave for its provider. */
export interface Leaving {
  readonly endpoint: Endpoint
  /** Whether it comes after others; may be found out to be more urgent while it waits. */
  readonly urgency: { inBackground: boolean; readonly nobodyWaits?: boolean }
  /** How long it waits for its turn at the most, milliseconds. */
  readonly waitMs: number
  readonly signal: AbortSignal
}

/** A leaving call, as the limits of its provider see it. */
export function limitedCall({ endpoint, urgency }: Pick<Leaving, 'endpoint' | 'urgency'>): LimitedCall {
  const { name, limits, spending, holdOff, timeouts } = endpoint
  return {
    ...{ endpoint: name, limits, spending, holdOff },
    inBackground: urgency.inBackground,
    longestMs: timeouts.totalMs + 1_000,
  }
}
