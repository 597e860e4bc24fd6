import { Temporal } from 'temporal-polyfill'
import { periodAround } from '../time/calendar.js'
import type { PlanOptions, PlanTerms, Pricing } from './plan.js'

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
