import type { Clock } from '../../core/ports/clock.js'
import type { Store } from '../../core/ports/store.js'
import type { Events } from '../events.js'
import type { StoreTime } from './store-time.js'

export interface GateParts {
  readonly store: Store
  readonly clock: Clock
  /** What is known of providers goes by it. */
  readonly time: StoreTime
  readonly events: Events
  /** A number from 0 to 1, another each time. */
  readonly random: () => number
  /** Counts calls that others made to a provider with the same key. */
  readonly countOthers: (provider: string, calls: number) => void
  /** Distinguishes this process from others that share the store. */
  readonly process: string
}
