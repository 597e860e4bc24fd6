import type { CalendarPeriod } from '../time/calendar-period.js'

/** Ways for a call to end that a provider may leave off its bill: see `PlanOptions.notBilled`. */
export const unbilledOutcomes = ['unmodified', 'clientError', 'refused', 'failed', 'serverError', 'noAnswer'] as const
export type UnbilledOutcome = (typeof unbilledOutcomes)[number]

/** To which billing period a call belongs: the one in which it left, or in which it ended. */
export const countings = ['left', 'ended'] as const
export type CountedAt = (typeof countings)[number]

export const tierings = ['graduated', 'volume'] as const

/** How the amount of a billing period is rounded to the decimals of its currency (ISO 4217). */
export const roundings = ['half-up', 'half-even', 'up', 'down'] as const
export type Rounding = (typeof roundings)[number]

/** The prices of a plan. All amounts are decimal strings in units of its currency: a binary number could not hold them exactly. */
export interface PlanTerms {
  /** Charged once a period. */
  readonly baseFee?: string
  /** Calls of each period that cost nothing. */
  readonly included?: number
  /** Price of each call beyond those included. */
  readonly perCall?: string
  /** Prices by how many calls there were in the period, those included counted too; the last tier has no end. In place of `perCall`. */
  readonly tiers?: readonly PlanTier[]
  /** `graduated` (default): each call has the price of the tier that it falls in. `volume`: all have that of the tier reached at the end. */
  readonly tiering?: (typeof tierings)[number]
  /** Price of every started package of `of` calls beyond those included. In place of `perCall`. */
  readonly packages?: { readonly of: number; readonly price: string }
  /** Prices of units that answers cost, besides those of calls, by name: `{ tokens: { price: "0.40", per: 1000 } }`. `per` is 1 by default. */
  readonly units?: Readonly<Record<string, { readonly price: string; readonly per?: number }>>
  /** The least and the most that a period costs, base fee included. */
  readonly minimum?: string
  readonly maximum?: string
  /** How what a period costs is rounded to the decimals of the currency (ISO 4217): a half up or to even, any part up or down. Default: not at all. */
  readonly rounding?: Rounding
}

export interface PlanTier {
  /** The last call of the period that has this price. */
  readonly upTo?: number
  readonly perCall: string
}

/** A plan without its currency: what calls and units come to, and in which periods. */
export type Pricing = Omit<PlanOptions, 'currency'>

/** What a provider charges. */
export interface PlanOptions extends PlanTerms {
  /** ISO 4217 code, e.g. `"EUR"`. */
  readonly currency: string
  /**
   * How long a billing period is: of the calendar, or so many days from a date on. Base fee, included calls, tiers, packages, minimum and
   * maximum are those of a period. Default `month`.
   */
  readonly period?: CalendarPeriod | { readonly days: number; readonly from: string }
  /** The day of the month on which a period of a month begins, 1 to 31; in shorter months their last. Default 1. */
  readonly anchorDay?: number
  /** IANA time zone whose calendar the periods and changes follow. Default `"UTC"`. */
  readonly zone?: string
  /**
   * Which calls are left off the bill: `unmodified` (304), `clientError` (4xx but 429), `refused` (429), `serverError` (5xx), `noAnswer` (no
   * whole answer), `failed` (both of these). Default: all are billed.
   */
  readonly notBilled?: readonly UnbilledOutcome[]
  /** Whether a call belongs to the billing period in which it left, or in which it ended. Default `ended`. */
  readonly countedAt?: CountedAt
  /**
   * Credits bought in advance, so many at once for a price: more are bought as soon as they are used up, however long that takes, and what is
   * left stays. A call takes one, or as many as its endpoint's `weight` says. In place of `perCall` and of a period.
   */
  readonly prepaid?: { readonly credits: number; readonly price: string }
  /** Prices that hold from the begin of a day on, in place of those before: `{ from: "2026-07-01", perCall: "0.005" }`. */
  readonly changes?: readonly ({ readonly from: string } & PlanTerms)[]
}
