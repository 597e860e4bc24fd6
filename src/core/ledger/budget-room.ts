import Big from 'big.js'
import type { BudgetStatus } from '../limits/status.js'

/** How much more the budgets of a provider allow; undefined where none bounds it. */
export interface BudgetRoom {
  readonly calls: number | undefined
  readonly money: Big | undefined
}

/** How much more budgets allow from `now` to `end`, of calls and of money in a currency: of those periods that begin until then too. */
export function roomInBudgets(
  budgets: readonly BudgetStatus[],
  { now, end, currency }: { readonly now: number; readonly end: number; readonly currency: string | undefined },
): BudgetRoom {
  const least = (unit: string | null) =>
    budgets
      .filter((one) => one.currency === unit)
      .map((one) => roomIn(one, now, end))
      .filter((room) => room !== undefined)
      .reduce<Big | undefined>((smallest, room) => (smallest === undefined || room.lt(smallest) ? room : smallest), undefined)
  const calls = least(null)
  return { calls: calls && Number(calls), money: currency === undefined ? undefined : least(currency) }
}

function roomIn({ stopsAt, spent, since, until }: BudgetStatus, now: number, end: number): Big | undefined {
  if (stopsAt === null) return undefined
  if (since === null || until === null) return undefined // how long its period is is not known
  const length = until.getTime() - since.getTime()
  const later = Math.max(0, Math.ceil((end - Math.max(now, until.getTime())) / length))
  const left = new Big(stopsAt).minus(spent)
  return new Big(stopsAt).times(later).plus(left.lt(0) ? 0 : left)
}
