import * as z from 'zod/mini'
import { defaults } from '../core/defaults.js'
import { countings, roundings, tierings, unbilledOutcomes } from '../core/money/plan.js'
import { calendarPeriods } from '../core/time/calendar-period.js'
import { callCount, listOf, monthDay, name, noCount, oneOf, option, price, received, required, text, zone } from './schema-parts.js'

const date = text(isDate, 'a date, e.g. "2026-07-01"')

export const currency = text(isCurrency, 'an ISO 4217 currency code, e.g. "EUR"')

const planTerms = {
  baseFee: option(price, 'Charged once a billing period, a decimal in quotes.'),
  included: option(z.int({ error: noCount }).check(z.positive({ error: noCount })), 'Calls of each billing period that cost nothing.'),
  perCall: option(price, 'Price of one call beyond those included, a decimal in quotes, e.g. "0.004".'),
  tiers: option(
    listOf(
      z.strictObject({
        upTo: option(callCount, 'The last call of the period that has this price; the last tier has none.'),
        perCall: required(price, 'Price of one call, a decimal in quotes.'),
      }),
    ),
    'Prices by how many calls there were in the period, in place of `perCall`.',
  ),
  tiering: option(oneOf(tierings), 'Whether each call has the price of its tier, or all that of the tier reached.', defaults.tiering),
  packages: option(
    z.strictObject({ of: required(callCount, 'Calls in a package.'), price: required(price, 'Price of a package, a decimal in quotes.') }),
    'Price of every started package of calls, in place of `perCall`.',
  ),
  units: option(
    z.record(
      name,
      z.strictObject({
        price: required(price, 'Price of so many units, a decimal in quotes.'),
        per: option(callCount, 'How many units the price is for.', defaults.unitsPer),
      }),
    ),
    'Prices of units that answers cost besides, by name, e.g. { tokens: { price: "0.40", per: 1000 } }.',
  ),
  minimum: option(price, 'The least that a billing period costs, a decimal in quotes.'),
  maximum: option(price, 'The most that a billing period costs, a decimal in quotes.'),
  rounding: option(
    oneOf(roundings),
    'How what a billing period costs is rounded to the decimals of the currency (ISO 4217). Default: not at all.',
  ),
}

/** The shape of `PlanOptions`. */
export const plan = z.strictObject({
  currency: required(currency, 'ISO 4217 code, e.g. "EUR".'),
  ...planTerms,
  prepaid: option(
    z.strictObject({
      credits: required(callCount, 'How many credits are bought at once.'),
      price: required(price, 'What they cost, a decimal in quotes.'),
    }),
    'Credits bought in advance: so many at once for a price, more as soon as they are used up.',
  ),
  period: option(
    z.union(
      [
        z.strictObject({
          days: required(callCount, 'Length of the billing period.'),
          from: required(date, 'A day on which one begins, e.g. "2026-07-01".'),
        }),
        oneOf(calendarPeriods),
      ],
      { error: (issue) => `${received(issue)} is not a period: write "day", "month", "year" or { days: 30, from: "2026-07-01" }` },
    ),
    'The billing period: of the calendar, or so many days from a date on.',
    defaults.planPeriod,
  ),
  anchorDay: option(
    z.int({ error: monthDay }).check(z.minimum(1, { error: monthDay }), z.maximum(31, { error: monthDay })),
    'Day of the month on which the billing period begins; in shorter months their last.',
    defaults.anchorDay,
  ),
  zone: option(zone, 'IANA time zone whose calendar periods and changes follow.', defaults.zone),
  notBilled: option(listOf(oneOf(unbilledOutcomes)), 'Which calls are left off the bill. Default: all are billed.'),
  countedAt: option(
    oneOf(countings),
    'Whether a call belongs to the billing period in which it left, or in which it ended.',
    defaults.countedAt,
  ),
  changes: option(
    listOf(z.strictObject({ from: required(date, 'The day from which they hold.'), ...planTerms })),
    'Prices that hold from a date on.',
  ),
})

function isCurrency(code: string): boolean {
  return Intl.supportedValuesOf('currency').includes(code)
}

function isDate(value: string): boolean {
  const date = new Date(`${value}T00:00Z`)
  return /^\d{4}-\d{2}-\d{2}$/.test(value) && !Number.isNaN(date.getTime()) && date.toISOString().startsWith(value)
}
