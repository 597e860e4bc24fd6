import Big from 'big.js'
import { chargeOfUnits, type Metered } from '../money/period-charge.js'
import type { PlanOptions } from '../money/plan.js'
import { termsAt as termsOfPlan } from '../money/plan-periods.js'
import type { Units } from '../money/units.js'
import { allSteps, forEach, type Steps } from '../steps.js'
import type { FactsInForce } from './facts-in-force.js'
import type { Fees } from './fees.js'
import type { TallyRow } from './ledger-row.js'

/** What is priced, and how its calls and units count. */
export interface Pricing {
  readonly provider: string
  /** In any order; from the begin of the first billing period on, what is before `since` counts only towards its places in that period. */
  readonly rows: readonly TallyRow[]
  readonly since: number
  /** End of the report, exclusive. */
  readonly until: number
  /** What is charged though nothing is called. */
  readonly fees: Fees
  /** How many calls of a row count, by the plan in force. */
  readonly callsOf: (row: TallyRow, plan: PlanOptions) => number
  /** The units of a row that count. */
  readonly unitsOf: (row: TallyRow) => Units
  /** On which line of the bill a row is; default: that of its endpoint. */
  readonly lineOf?: (row: TallyRow) => string
}

export interface Usage {
  readonly metered: readonly Metered[]
  readonly own: Big
  readonly byEndpoint: ReadonlyMap<string, { readonly metered: number; readonly own: Big }>
}

type Counting = Pick<Pricing, 'callsOf' | 'unitsOf' | 'lineOf'>

/** What rows use of a plan: its places by the prices in force, and what is charged to an endpoint alone. */
export function usageOf(known: FactsInForce, plan: PlanOptions, rows: readonly TallyRow[], counting: Counting): Usage {
  return allSteps(usageSteps(known, plan, rows, counting))
}

/** As `usageOf`, in steps. */
export function* usageSteps(
  known: FactsInForce,
  plan: PlanOptions,
  rows: readonly TallyRow[],
  { callsOf, unitsOf, lineOf = ({ endpoint }) => endpoint }: Counting,
): Steps<Usage> {
  const metered: Metered[] = []
  const byEndpoint = new Map<string, { metered: number; own: Big }>()
  let own = new Big(0)
  yield* forEach(rows, (row) => {
    const { bucket, provider, endpoint } = row
    const { perCall, weight = 1 } = known.price(provider, endpoint, bucket) ?? {}
    const present = known.plan(provider, bucket) ?? plan
    const calls = callsOf(row, present)
    const line = lineOf(row)
    const sum = byEndpoint.get(line) ?? { metered: 0, own: new Big(0) }
    byEndpoint.set(line, sum)
    if (perCall !== undefined && calls > 0) {
      const charge = new Big(perCall).times(calls)
      own = own.plus(charge)
      sum.own = sum.own.plus(charge)
    } else if (perCall === undefined && calls > 0) {
      addMetered(metered, { calls: calls * weight, terms: termsOfPlan(present, bucket) })
      sum.metered += calls * weight
    }
    const units = unitsOf(row)
    if (!hasAny(units)) return
    const ofUnits = chargeOfUnits(termsOfPlan(present, bucket), units)
    own = own.plus(ofUnits)
    sum.own = sum.own.plus(ofUnits)
  })
  return { metered, own, byEndpoint }
}

function hasAny(units: Units): boolean {
  for (const _ in units) return true
  return false
}

/** Calls that follow one another under the same prices count together. */
function addMetered(metered: Metered[], more: Metered): void {
  const last = metered.at(-1)
  if (last?.terms === more.terms) metered[metered.length - 1] = { calls: last.calls + more.calls, terms: last.terms }
  else metered.push(more)
}

export function joined(metered: readonly Metered[], more: readonly Metered[]): Metered[] {
  const both = [...metered]
  for (const one of more) addMetered(both, one)
  return both
}
