import { z } from 'zod'
import { roundings, tierings, unbilledOutcomes } from '../core/money/plan.js'
import { calendarPeriods } from '../core/time/calendar.js'
import { callCount, monthDay, name, noCount, oneOf, price, received, text, zone } from './schema-parts.js'

const date = text(isDate, 'a date, e.g. "2026-07-01"')

export const currency = text(isCurrency, 'an ISO 4217 currency code, e.g. "EUR"')

const planTerms = {
  baseFee: price.optional(),
  included: z.int({ error: noCount }).positive({ error: noCount }).optional(),
  perCall: price.optional(),
  tiers: z.array(z.strictObject({ upTo: callCount.optional(), perCall: price })).optional(),
  tiering: oneOf(tierings).optional(),
  packages: z.strictObject({ of: callCount, price }).optional(),
  units: z.record(name, z.strictObject({ price, per: callCount.optional() })).optional(),
  minimum: price.optional(),
  maximum: price.optional(),
  rounding: oneOf(roundings).optional(),
}

/** The shape of `PlanOptions`. */
export const plan = z.strictObject({
  currency,
  ...planTerms,
  prepaid: z.strictObject({ credits: callCount, price }).optional(),
  period: z
    .union([z.strictObject({ days: callCount, from: date }), oneOf(calendarPeriods)], {
      error: (issue) => `${received(issue)} is not a period: write "day", "month", "year" or { days: 30, from: "2026-07-01" }`,
    })
    .optional(),
  anchorDay: z.int({ error: monthDay }).min(1, { error: monthDay }).max(31, { error: monthDay }).optional(),
  zone: zone.optional(),
  notBilled: z.array(oneOf(unbilledOutcomes)).optional(),
  changes: z.array(z.strictObject({ from: date, ...planTerms })).optional(),
})

function isCurrency(code: string): boolean {
  return Intl.supportedValuesOf('currency').includes(code)
}

function isDate(value: string): boolean {
  const date = new Date(`${value}T00:00Z`)
  return /^\d{4}-\d{2}-\d{2}$/.test(value) && !Number.isNaN(date.getTime()) && date.toISOString().startsWith(value)
}
