import { Temporal } from 'temporal-polyfill'
import { type CalendarPeriod, periodAround } from '../time/calendar.js'

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

/** A period that holds all moments there are, milliseconds since 1970-01-01T00:00Z. */
const forEver = { start: 0, end: 8_640_000_000_000_000 } as const

/** The prices that hold at `at`; a change of `perCall`, `tiers` or `packages` takes the place of whichever of them held before. */
export function termsAt(plan: Pricing, at: number): PlanTerms {
  const { changes = [], zone = 'UTC', prepaid } = plan
  if (changes.length === 0) return prepaid ? prepaidTerms(plan, prepaid) : plan
  return changes
    .filter(({ from }) => beginOfDay(from, zone) <= at)
    .sort((a, b) => (a.from < b.from ? -1 : 1))
    .reduce<PlanTerms>(changed, plan)
}

const prepaidTermsOf = new WeakMap<Pricing, PlanTerms>()

/** Credits bought in advance are packages that no period ends; the same object for the same plan, so that calls count together. */
function prepaidTerms(plan: Pricing, { credits, price }: NonNullable<PlanOptions['prepaid']>): PlanTerms {
  const known = prepaidTermsOf.get(plan)
  if (known) return known
  const terms = { packages: { of: credits, price }, ...(plan.units && { units: plan.units }) }
  prepaidTermsOf.set(plan, terms)
  return terms
}

/** The moments from which other prices hold. */
export function changesOf({ changes = [], zone = 'UTC' }: PlanOptions): number[] {
  return changes.map(({ from }) => beginOfDay(from, zone))
}

function changed(before: PlanTerms, { from: _, ...after }: { readonly from: string } & PlanTerms): PlanTerms {
  const pricesCalls = after.perCall !== undefined || after.tiers !== undefined || after.packages !== undefined
  if (!pricesCalls) return { ...before, ...after }
  const { perCall: _perCall, tiers: _tiers, tiering: _tiering, packages: _packages, ...rest } = before
  return { ...rest, ...after }
}

/** Of each plan, the billing period that was asked for last. */
const latestPeriods = new WeakMap<Pricing, { readonly start: number; readonly end: number }>()

/** The billing period that `at` falls in; milliseconds since 1970-01-01T00:00Z, `end` exclusive. */
export function billingPeriod(plan: Pricing, at: number): { readonly start: number; readonly end: number } {
  const known = latestPeriods.get(plan)
  if (known && at >= known.start && at < known.end) return known
  const found = foundPeriod(plan, at)
  latestPeriods.set(plan, found)
  return found
}

function foundPeriod(plan: Pricing, at: number): { readonly start: number; readonly end: number } {
  const { period = 'month', anchorDay = 1, zone = 'UTC', prepaid } = plan
  if (prepaid) return forEver
  if (typeof period === 'object') return periodOfDays(period, zone, at)
  if (period !== 'month' || anchorDay === 1) return periodAround(at, period, zone)
  const today = Temporal.Instant.fromEpochMilliseconds(at).toZonedDateTimeISO(zone).toPlainDate()
  const beginIn = (months: number) =>
    today.with({ day: 1 }).add({ months }).with({ day: anchorDay }, { overflow: 'constrain' }).toZonedDateTime(zone).epochMilliseconds
  const [before, now, next] = [beginIn(-1), beginIn(0), beginIn(1)]
  return at < now ? { start: before, end: now } : { start: now, end: next }
}

function periodOfDays({ days, from }: { readonly days: number; readonly from: string }, zone: string, at: number) {
  const first = Temporal.PlainDate.from(from)
  const today = Temporal.Instant.fromEpochMilliseconds(at).toZonedDateTimeISO(zone).toPlainDate()
  const passed = Math.floor(first.until(today, { largestUnit: 'days' }).days / days)
  const begin = (periods: number) => first.add({ days: periods * days }).toZonedDateTime(zone).epochMilliseconds
  return { start: begin(passed), end: begin(passed + 1) }
}

const beginsOfDays = new Map<string, number>()
const mostBegins = 1_000

function beginOfDay(date: string, zone: string): number {
  const name = `${date} ${zone}`
  const known = beginsOfDays.get(name)
  if (known !== undefined) return known
  const begin = Temporal.PlainDate.from(date).toZonedDateTime(zone).epochMilliseconds
  if (beginsOfDays.size >= mostBegins) beginsOfDays.clear()
  beginsOfDays.set(name, begin)
  return begin
}
