import { billedCalls } from '../money/billed-calls.js'
import type { Money } from '../money/money.js'
import type { Units } from '../money/units.js'
import type { FactsInForce } from './facts-in-force.js'
import { type Costs, sumOf } from './figures.js'
import type { LedgerMode, TallyRow } from './ledger-row.js'
import type { Pricing } from './plan-usage.js'
import { type ProviderPrices, priceProvider } from './provider-prices.js'

/** What a report is priced by. */
export interface Known {
  readonly known: FactsInForce
  /** Calls of each row that limits would have refused had all gone upstream. */
  readonly over: ReadonlyMap<TallyRow, number>
}

type Price<T> = (mode: LedgerMode, callsOf: Pricing['callsOf'], unitsOf?: Pricing['unitsOf']) => T

export const unitsMade: Pricing['unitsOf'] = ({ tally }) => tally.units.made

export function costsOf(facts: Known, provider: string, rows: readonly TallyRow[], since: number, until: number): Costs<ProviderPrices> {
  return costsOfKinds(facts, rows, (mode, callsOf, unitsOf = unitsMade) =>
    priceProvider(facts.known, { provider, rows: rows.filter((row) => row.mode === mode), since, until, callsOf, unitsOf }),
  )
}

export function costsOfKinds<T>({ over }: Known, rows: readonly TallyRow[], price: Price<T>): Costs<T> {
  const refused = (row: TallyRow) => row.tally.overLimit + (over.get(row) ?? 0)
  const reused = price('reuse', ({ tally }, plan) => billedCalls(plan, tally))
  return {
    measured: price('measure', ({ tally }, plan) => billedCalls(plan, tally)),
    reused,
    asked: price(
      'reuse',
      (row) => row.tally.asked - refused(row),
      (row) => withoutRefused(row.tally.units.asked, refused(row) / Math.max(1, row.tally.asked)),
    ),
    onceOnly: rows.some(({ tally }) => tally.refetched > 0)
      ? price(
          'reuse',
          ({ tally }, plan) => Math.max(0, billedCalls(plan, tally) - tally.refetched),
          ({ tally: { units, refetchedUnits } }) => unitsLess(units.made, refetchedUnits),
        )
      : reused,
    avoided: price('measure', ({ tally }, plan) => Math.max(0, billedCalls(plan, tally) - tally.wouldHit)),
  }
}

function unitsLess(units: Units, less: Units): Units {
  return Object.fromEntries(Object.entries(units).map(([name, number]) => [name, Math.max(0, number - (less[name] ?? 0))]))
}

/** Units less the share of calls that would have been refused. */
function withoutRefused(units: Units, share: number): Units {
  return share === 0 ? units : Object.fromEntries(Object.entries(units).map(([name, number]) => [name, Math.round(number * (1 - share))]))
}

export function allOf({ byEndpoint, fees }: ProviderPrices): Money[] {
  return sumOf([...byEndpoint.values(), fees])
}
