import type { Tally } from '../ledger/tally.js'
import type { Money, MoneySum } from './money.js'

/** Ways for a call to end that a provider may leave off its bill. */
export const unbilledOutcomes = ['unmodified', 'refused', 'failed'] as const
export type UnbilledOutcome = (typeof unbilledOutcomes)[number]

/** A flat price for every call. Amounts are decimal strings in units of the currency. */
export interface FlatPlan {
  /** ISO 4217 code. */
  readonly currency: string
  readonly perCall: string
  readonly notBilled: readonly UnbilledOutcome[]
}

/** Adds what the calls made cost: every upstream call, except those that ended in a way the plan does not bill. */
export function addPriceOfMade(sum: MoneySum, plan: FlatPlan, tally: Tally): void {
  const unmodified = plan.notBilled.includes('unmodified') ? tally.upUnmodified : 0
  const refused = plan.notBilled.includes('refused') ? 0 : tally.upRefused
  const failed = plan.notBilled.includes('failed') ? 0 : tally.upFailed
  sum.add(plan.currency, plan.perCall, tally.upAnswered - unmodified + refused + failed)
}

/** Adds what the calls asked would have cost, had every one gone upstream and been answered. */
export function addPriceOfAsked(sum: MoneySum, plan: FlatPlan, tally: Tally): void {
  sum.add(plan.currency, plan.perCall, tally.asked)
}

/** What a call that ended so costs; undefined where no price is known or the plan does not bill it. */
export function costOfCall(
  { price, unbilled }: { readonly price: Money | undefined; readonly unbilled: readonly UnbilledOutcome[] },
  ending: UnbilledOutcome | 'answered',
): Money | undefined {
  return ending !== 'answered' && unbilled.includes(ending) ? undefined : price
}

/** The price of one call, as money. */
export function moneyOfCall(plan: FlatPlan | undefined): Money | undefined {
  return plan && { currency: plan.currency, amount: plan.perCall }
}
