import type { Refusals, ReuseOptions } from '../core/endpoints/options.js'
import type { ProviderOptions } from '../core/endpoints/provider-options.js'
import type { ExchangeRates } from '../core/ledger/ledger-row.js'
import type { Clock } from '../core/ports/clock.js'
import type { Journal } from '../core/ports/journal.js'
import type { Store } from '../core/ports/store.js'
import type { Mode } from '../core/rules/mode.js'
import type { Duration } from '../core/time/duration.js'
import type { Fetch } from '../engine/http/http-upstream.js'

/** How long the ledger keeps its finer buckets of time; those of days are kept forever. */
export interface LedgerOptions {
  /** Default `"2 days"`. */
  readonly minutesFor?: Duration
  /** Default `"92 days"`: three months. */
  readonly hoursFor?: Duration
  /** IANA time zone whose days are kept apart besides those of plans and quotas, for reports of a time when only days are kept. */
  readonly zone?: string
}

/** What `openStash` takes. */
export interface StashConfig {
  /** In a file: where its JSON Schema is, for editors. */
  readonly $schema?: string
  /** Where answers and the ledger are kept. Default: in memory. */
  readonly store?: Store
  /** What is done with calls; providers and endpoints may say otherwise. Default `reuse`. */
  readonly mode?: Mode
  /** What calls end in that Stashen itself refuses; providers, endpoints and calls may say otherwise. Default `throw`. */
  readonly refusals?: Refusals
  /** Named sets of options that endpoints, operations and defaults refer to with `set`. */
  readonly sets?: Readonly<Record<string, ReuseOptions>>
  /** Third-party APIs by name. */
  readonly providers?: Readonly<Record<string, ProviderOptions>>
  /** A currency that all money is given in besides its own, and what one unit of each other is in it: `{ currency: "EUR", rates: { NOK: "0.085" } }`. */
  readonly exchange?: ExchangeRates
  /** How long the ledger keeps details. */
  readonly ledger?: LedgerOptions
  /** Where every call is written down, one line each. Default: nowhere. */
  readonly journal?: Journal
  /** What really calls upstream. Default: the `fetch` that is global when the stash is opened. */
  readonly fetch?: Fetch
  /** Default: the system's time. */
  readonly clock?: Clock
  /** How long the store may take for one thing before calls go on without it. Default `"500 ms"`. */
  readonly storeTimeout?: Duration
  /** Whether a store that cannot be opened is tried again later, while calls go on without it. Default false: opening fails. */
  readonly openWithoutStore?: boolean
  /** How long closing waits for calls under way before it gives them up. Default `"10 s"`. */
  readonly closeWithin?: Duration
  /** Returns a number from 0 to 1, another each time. Default `Math.random`. */
  readonly random?: () => number
  /** Reported, once an episode, of trouble that the application is saved. Default: `console.warn`. */
  readonly warn?: (message: string) => void
}
