import type { BudgetLevel } from '../limits/budget.js'
import type { Units } from '../money/units.js'
import type { Mode } from '../rules/mode.js'
import type { NotKept } from './keep.js'
import type { Outcome } from './outcome.js'

/** What had no room: the store (its `maxBytes` or `maxEntries`), or the endpoint (its `maxEntries`, or 100 variants of an answer). */
export type EvictedBy = 'store' | 'endpoint'

/** Where something happened: an endpoint or operation, or a provider as a whole. */
export interface EventPlace {
  readonly provider: string
  readonly endpoint: string
}

/**
 * What a stash tells those who listen, by name. Names are stable; facts may be added. No secret stands in any of them, but `error` is the
 * very error that was thrown, and what others write into theirs is not known here.
 */
export interface StashEvents {
  /** A call of the application was answered, or ended in an error. */
  readonly call: EventPlace & {
    readonly mode: Mode
    /** Under which its answer is looked up, where it has one; no credentials stand in it. */
    readonly key?: string | undefined
    /** As the outcome says; `abandoned` also where its caller left before the end of an answer that had begun. */
    readonly how: Outcome['how']
    readonly reason?: Outcome['reason']
    readonly ms: number
    /** Which layer a stored answer came from, where its store has some. */
    readonly layer?: Outcome['layer']
    /** The label that the call was given. */
    readonly label?: string | undefined
    readonly error?: unknown
  }
  /** An upstream call has ended. */
  readonly upstream: EventPlace & UpstreamCallFacts
  /** An older answer was given. */
  readonly stale: EventPlace & { readonly reason: Outcome['reason']; readonly ageMs: number }
  /** A call would have passed a limit: it waits for a place, or is refused. */
  readonly limited: EventPlace & {
    readonly limit: string
    /** When it may try again, as far as is known; null where waiting does not help. */
    readonly retryAt: Date | null
    readonly doing: 'waiting' | 'refused'
    readonly inBackground: boolean
  }
  /**
   * A budget reached a level for the first time in its period, by the calls that have ended; `stop` also when a call was refused that
   * could have passed it. `spent` and `amount` are decimals: money, or calls where `currency` is null. `until` is the end of the period.
   */
  readonly budget: {
    readonly provider: string
    readonly budget: string
    readonly level: Exclude<BudgetLevel, 'free'>
    readonly spent: string
    readonly amount: string
    readonly currency: string | null
    readonly until: Date
  }
  /** An upstream call is made again. */
  readonly retry: EventPlace & { readonly attempt: number; readonly afterMs: number }
  /** Calls failed, so no call is made for a while; `endpoint` is null where that holds for the whole provider. */
  readonly 'hold-off': HoldOffFacts & { readonly failures: number; readonly until: Date; readonly what: string }
  /** What was held off answers again, or the store works again. */
  readonly recovered: (HoldOffFacts & { readonly what: 'upstream' }) | { readonly what: 'store' }
  /** The store fails: calls go on without it. Once an episode. */
  readonly 'store-trouble': { readonly message: string; readonly error: unknown }
  /** A good answer was not stored, though its endpoint has a freshness. */
  readonly 'not-stored': EventPlace & { readonly why: NotKept }
  /** Answers were dropped from the store to make room while they were fresh. */
  readonly evicted: EventPlace & { readonly entries: number; readonly by: EvictedBy }
  /** A stored answer could not be read; it was dropped and counts as absent. */
  readonly 'corrupt-entry': EventPlace & { readonly key: string; readonly error: unknown }
}

export interface HoldOffFacts {
  readonly provider: string
  readonly endpoint: string | null
}

export interface UpstreamCallFacts {
  /** `abandoned`: all who waited for it left before its end. `unreached`: it failed before the provider saw anything of it, so that it costs and counts nothing. */
  readonly how: 'answered' | 'refused' | 'failed' | 'abandoned' | 'unreached'
  /** Of an HTTP call: method, URL without the credentials in its query, status of the answer. */
  readonly method?: string | undefined
  readonly url?: string | undefined
  readonly status?: number | undefined
  /** When it began, and how long it took. */
  readonly beganAt: Date
  readonly ms: number
  /** From 1; more for repetitions. */
  readonly attempt: number
  readonly inBackground: boolean
  readonly mode: Mode
  readonly key?: string | undefined
  /** What the answer cost besides, by name, where its endpoint counts units. */
  readonly units?: Units | undefined
  /** The label of the call that it was made for first. */
  readonly label?: string | undefined
  readonly error?: unknown
}

export type EventName = keyof StashEvents

/** The names of all events. */
export const eventNames = Object.keys({
  ...{
    call: 1,
    upstream: 1,
    stale: 1,
    limited: 1,
    budget: 1,
    retry: 1,
    'hold-off': 1,
    recovered: 1,
    'store-trouble': 1,
    'not-stored': 1,
    evicted: 1,
    'corrupt-entry': 1,
  },
} satisfies Record<EventName, 1>) as EventName[]
export type EventListener<N extends EventName> = (event: StashEvents[N]) => void
