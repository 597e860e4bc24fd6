import { Temporal } from 'temporal-polyfill'
import { billedCalls } from '../money/billed-calls.js'
import { allSteps } from '../steps.js'
import { beginsOf } from '../time/calendar.js'
import type { FactsInForce } from './facts-in-force.js'
import { feesOf } from './fees.js'
import type { TallyRow } from './ledger-row.js'
import type { Pricing } from './plan-usage.js'
import { priceTimes } from './provider-prices.js'

/** What the plan of a provider charges for each day of `zone` (IANA), calls and fees, at least from `since` to `until`, as decimals in its currency; by day, `YYYY-MM-DD`. */
export function dailyCharges(
  known: FactsInForce,
  provider: string,
  rows: readonly TallyRow[],
  { zone, since, until }: { readonly zone: string; readonly since: number; readonly until: number },
): Map<string, string> {
  const first = rows.reduce((earliest, { bucket }) => Math.min(earliest, bucket), since)
  const end = rows.reduce((latest, { bucket, lengthMs }) => Math.max(latest, bucket + lengthMs), until)
  const pricing: Pricing = {
    ...{ provider, rows, since: 0, until: end, fees: feesOf(known, provider, { since: 0, until: end }) },
    callsOf: ({ tally }, plan) => billedCalls(plan, tally),
    unitsOf: ({ tally }) => tally.units.made,
  }
  const prices = allSteps(priceTimes(known, pricing, beginsOf('day', first, end, zone)))
  const currency = known.plan(provider, end)?.currency
  return new Map(
    [...prices].map(([begin, moneys]) => [
      Temporal.Instant.fromEpochMilliseconds(begin).toZonedDateTimeISO(zone).toPlainDate().toString(),
      moneys.find((money) => money.currency === currency)?.amount ?? '0',
    ]),
  )
}
