import { billedCalls } from '../money/billed-calls.js'
import type { Money } from '../money/money.js'
import { numberOf, type Units } from '../money/units.js'
import { filtered, type Steps } from '../steps.js'
import type { BilledSide } from './bill-forecast.js'
import type { FactsInForce } from './facts-in-force.js'
import { type Fees, feesOf } from './fees.js'
import { type Basis, type Costs, sumOf } from './figures.js'
import type { TallyRow } from './ledger-row.js'
import type { Pricing } from './plan-usage.js'
import { type ProviderPrices, priceProvider } from './provider-prices.js'
import { billedWithout, callsWithout, wouldAvoid } from './without.js'

/** What a report is priced by. */
export interface Known {
  readonly known: FactsInForce
  /** Calls of each row that limits would have refused had all gone upstream. */
  readonly over: ReadonlyMap<TallyRow, number>
  readonly basis: Basis
  /** Whether the same calls were made twice, while measuring and while reusing, one after the other perhaps: each has the fees of its own time. */
  readonly isTwice: boolean
  readonly feesOf: (provider: string) => Fees
}

type How = Pick<Pricing, 'callsOf' | 'unitsOf' | 'fees'>
type Price<T> = (rows: readonly TallyRow[], how: How) => Steps<T>

const unitsMade: Pricing['unitsOf'] = ({ tally }) => tally.units.made
const billed: Pricing['callsOf'] = ({ tally }, plan) => billedCalls(plan, tally)

export function costsOf(
  facts: Known,
  provider: string,
  rows: readonly TallyRow[],
  time: Pick<Pricing, 'since' | 'until' | 'lineOf'>,
): Steps<Costs<ProviderPrices>> {
  return costsOfKinds(facts, provider, rows, (some, how) => priceProvider(facts.known, { provider, rows: some, ...time, ...how }))
}

/** How calls are billed with the stash and without it; of what limits would have refused then, nothing is known of single hours. */
export function billedSides(basis: Basis): Record<'with' | 'without', BilledSide> {
  const isMeasured = ({ mode }: TallyRow) => mode === 'measure'
  return {
    with: { includes: (row) => basis === 'estimated' || !isMeasured(row), callsOf: billed, unitsOf: unitsMade },
    without: {
      includes: (row) => basis === 'estimated' || isMeasured(row),
      callsOf: (row, plan) => (isMeasured(row) ? billed(row, plan) : billedWithout(plan, row.tally)),
      unitsOf: (row) => (isMeasured(row) ? row.tally.units.made : row.tally.units.asked),
    },
  }
}

/** Prices the rows of a provider in each of the ways that a report compares. */
export function* costsOfKinds<T>(
  { known, over, basis, isTwice, feesOf: all }: Known,
  provider: string,
  rows: readonly TallyRow[],
  priceRows: Price<T>,
): Steps<Costs<T>> {
  const measured = yield* filtered(rows, ({ mode }) => mode === 'measure')
  const reused = yield* filtered(rows, ({ mode }) => mode === 'reuse')
  const made = basis === 'measured' ? reused : rows
  const refused = (row: TallyRow) => row.tally.overLimit + (over.get(row) ?? 0)
  const price = (some: readonly TallyRow[], callsOf: Pricing['callsOf'], unitsOf: Pricing['unitsOf'] = unitsMade) =>
    priceRows(some, { callsOf, unitsOf, fees: isTwice ? feesOf(known, provider, timeOf(some)) : all(provider) })
  const withMade = yield* price(made, billed)
  return {
    measured: yield* price(measured, billed),
    without:
      basis === 'measured'
        ? yield* price(measured, billed)
        : yield* price(
            rows,
            (row, plan) => (row.mode === 'measure' ? billed(row, plan) : Math.max(0, billedWithout(plan, row.tally) - refused(row))),
            (row) => (row.mode === 'measure' ? row.tally.units.made : unitsWithout(row, refused(row))),
          ),
    with: withMade,
    onceOnly: rows.some(({ tally }) => tally.refetched > 0)
      ? yield* price(
          made,
          (row, plan) => Math.max(0, billed(row, plan) - row.tally.refetched),
          ({ tally: { units, refetchedUnits } }) => unitsLess(units.made, refetchedUnits),
        )
      : withMade,
    avoided: yield* price(
      measured,
      (row, plan) => Math.max(0, billed(row, plan) - wouldAvoid(row.tally, 'billed')),
      ({ tally: { units, wouldHitUnits } }) => unitsLess(units.made, wouldHitUnits),
    ),
  }
}

/** From the first of some rows to the end of the last. */
function timeOf(rows: readonly TallyRow[]): { from: number; since: number; until: number } {
  let [from, until] = [Number.POSITIVE_INFINITY, Number.NEGATIVE_INFINITY]
  for (const { bucket, lengthMs } of rows) [from, until] = [Math.min(from, bucket), Math.max(until, bucket + lengthMs)]
  return { from, since: from, until }
}

/** Units of the calls that would have left without the stash, less the share of those that limits would have refused. */
function unitsWithout({ tally }: TallyRow, refused: number): Units {
  const share = refused / Math.max(1, callsWithout(tally, {}))
  return share === 0
    ? tally.units.asked
    : Object.fromEntries(Object.entries(tally.units.asked).map(([name, number]) => [name, Math.round(number * (1 - share))]))
}

function unitsLess(units: Units, less: Units): Units {
  return Object.fromEntries(Object.entries(units).map(([name, number]) => [name, Math.max(0, number - numberOf(less, name))]))
}

export function allOf({ byEndpoint, fees }: ProviderPrices): Money[] {
  return sumOf([...byEndpoint.values(), fees])
}
