import type { Mode } from '../core/ledger/ledger-row.js'
import type { Clock } from '../core/ports/clock.js'
import type { Store } from '../core/ports/store.js'
import type { ProviderOptions } from '../core/rules/options.js'
import type { Fetch } from '../engine/http-calls.js'

/** What `openStash` takes. */
export interface StashConfig {
  /** Where answers and the ledger are kept. Default: in memory. */
  readonly store?: Store
  /** `reuse` (default), or `measure`: nothing is reused, everything is counted. */
  readonly mode?: Mode
  /** Third-party APIs by name. */
  readonly providers?: Readonly<Record<string, ProviderOptions>>
  /** What really calls upstream. Default: the global `fetch`. */
  readonly fetch?: Fetch
  /** Default: the system's time. */
  readonly clock?: Clock
  /** Told, once an episode, of trouble that the application is spared. Default: `console.warn`. */
  readonly warn?: (message: string) => void
}
