import type { PlanOptions } from '../money/plan.js'
import { billingPeriod } from '../money/plan-periods.js'
import { forEach, type Steps } from '../steps.js'
import type { FactsInForce } from './facts-in-force.js'
import { inTimeOrder } from './group-by.js'
import type { TallyRow } from './ledger-row.js'
import type { Pricing } from './plan-usage.js'

/** A billing period of a provider, as far as it falls into a report. */
export interface BilledPeriod {
  readonly plan: PlanOptions
  readonly start: number
  readonly end: number
  /** When it began, or the provider was first known in it: what it costs without a call belongs to the report that this falls into. */
  readonly dueAt: number
  /** Whether that was before the report. */
  readonly isBegun: boolean
  /** Its rows before the report and in it, in the order of time. */
  readonly before: readonly TallyRow[]
  readonly within: readonly TallyRow[]
}

/**
 * The billing periods that a report has to price: those with a call in it, and those that fall due in it and cost something without a call.
 */
export function* billedPeriods(known: FactsInForce, pricing: Pricing): Steps<BilledPeriod[]> {
  const { provider, rows, since, fees } = pricing
  const periods = new Map<string, Period>()
  for (const { plan, start, end } of fees.periods) {
    const name = nameOf(plan, start)
    if (!periods.has(name)) periods.set(name, { plan, start, end, rows: [] })
  }
  let current: Period | undefined
  let currentPlan: PlanOptions | undefined
  yield* forEach(yield* inTimeOrder(rows), (row) => {
    const plan = known.plan(provider, row.bucket)
    if (!plan) return
    if (!current || currentPlan !== plan || row.bucket >= current.end || row.bucket < current.start) {
      const { start, end } = billingPeriod(plan, row.bucket)
      current = periods.get(nameOf(plan, start)) ?? { plan, start, end, rows: [] }
      currentPlan = plan
      periods.set(nameOf(plan, start), current)
    }
    current.rows.push(row)
  })
  return [...periods.values()]
    .sort((a, b) => a.start - b.start)
    .map(({ rows: its, ...period }) => {
      const dueAt = Math.min(Math.max(period.start, fees.from), its[0]?.bucket ?? Number.POSITIVE_INFINITY)
      const [before, within] = [its.filter(({ bucket }) => bucket < since), its.filter(({ bucket }) => bucket >= since)]
      return { ...period, dueAt, isBegun: dueAt < since, before, within }
    })
    .filter(({ within, isBegun }) => within.length > 0 || !isBegun)
}

interface Period extends Pick<BilledPeriod, 'plan' | 'start' | 'end'> {
  readonly rows: TallyRow[]
}

function nameOf({ currency }: PlanOptions, start: number): string {
  return `${currency} ${start}`
}
