import type { BudgetOptions } from '../limits/budget.js'
import type { LimitOptions } from '../limits/limit.js'
import type { PlanOptions } from '../money/plan.js'
import type { CredentialOptions } from '../rules/credentials.js'
import type { KeyedRequest } from '../rules/keying.js'
import type { Mode } from '../rules/mode.js'
import type { CalendarPeriod } from '../time/calendar-period.js'
import type { Duration } from '../time/duration.js'
import type { EndpointOptions, NamedEndpointOptions, Refusals, RuleOptions, TimeoutOptions } from './options.js'

/**
 * How many calls a provider allows in a period. No call leaves past it, or past what the provider says is left, whichever is less; calls in
 * the background get what is due of it by now at an even pace.
 */
export interface QuotaOptions {
  /** Calls allowed in a period. */
  readonly calls: number
  readonly per: CalendarPeriod
  /** IANA time zone whose calendar the period follows. Default `"UTC"`. */
  readonly zone?: string
  /**
   * The header field in which answers say how many calls are left of it, as a whole number. Without it, what `RateLimit` or `X-RateLimit-*`
   * say of a limit of as many calls.
   */
  readonly remaining?: { readonly header: string }
}

/** Which columns of a usage export, a line a day or several, hold what. */
export interface UsageExportOptions {
  /** Of the day, `YYYY-MM-DD`; a time after it does not count. Default `day`. */
  readonly day?: string
  /** Of the number of billed calls. Default `calls`, unless only `amount` is given. */
  readonly calls?: string
  /** Of what they cost, a decimal in the currency of the plan. Default: none. */
  readonly amount?: string
  /** IANA time zone of the days. Default: that of the plan, else `"UTC"`. */
  readonly zone?: string
  /** What numbers have before their decimals; the other sign, spaces and apostrophes may stand between thousands. Default `point`. */
  readonly decimal?: 'point' | 'comma'
}

/** One third-party API. */
export interface ProviderOptions extends CredentialOptions {
  /** Absolute http(s) URL that all endpoints stand below. Not needed where only operations are wrapped. */
  readonly baseUrl?: string
  /** Whether paths are matched without regard to case. Answers of URLs that are written differently are stored apart all the same. Default false. */
  readonly ignoreCase?: boolean
  /** How long one upstream call may take, where its endpoint does not say otherwise. */
  readonly timeout?: TimeoutOptions
  /** Limits of the provider on all calls together, of every process that shares the store. */
  readonly limits?: readonly LimitOptions[]
  /** How much may be spent on the provider, by all processes that share the store. */
  readonly budgets?: readonly BudgetOptions[]
  /**
   * How long a pause that the provider asks for is believed, at the most. Default: 1 hour for `Retry-After`, and until the reset where it
   * reports that no calls are left, never more than 31 days.
   */
  readonly believeUpTo?: Duration
  /** What refusals end in. Default: the stash's. */
  readonly refusals?: Refusals
  /** How many calls may wait in this process for their turn. Default 1,000. */
  readonly queue?: number
  /**
   * Names who calls, where credentials do not: a signature is another each time. Callers by other names share no answer; it stands in keys
   * as a digest. Default: all credentials of the request.
   */
  readonly caller?: (request: KeyedRequest) => string
  /** What is done with its calls, where that is another than the stash's `mode`. */
  readonly mode?: Mode
  /** What holds for every endpoint and operation that does not say otherwise. Freshness given here holds for GET only. */
  readonly defaults?: RuleOptions
  readonly plan?: PlanOptions
  readonly quota?: QuotaOptions
  /** How the provider's own usage export, or its invoice lines, are read by `stashen reconcile`. */
  readonly usageExport?: UsageExportOptions
  /** By name, or as a list of endpoints with a `name` each. */
  readonly endpoints?: Readonly<Record<string, EndpointOptions>> | readonly NamedEndpointOptions[]
}
