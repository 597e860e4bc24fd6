import { quotaPeriod } from '../limits/quota.js'
import type { ProviderStatus } from '../limits/status.js'
import type { Steps } from '../steps.js'
import { BillCourse, type BilledSide, type BillForecast } from './bill-forecast.js'
import { type BudgetRoom, roomInBudgets } from './budget-room.js'
import { billedSides } from './costs.js'
import type { FactsInForce } from './facts-in-force.js'
import type { Basis } from './figures.js'
import type { TallyRow } from './ledger-row.js'
import { quotaUse } from './quota-use.js'
import type { QuotaUse } from './report-model.js'

interface Ahead {
  readonly known: FactsInForce
  readonly provider: string
  readonly basis: Basis
  /** Begin of the last bucket that is reported, and end of the report. */
  readonly at: number
  readonly until: number
  /** Rows of the provider: of its periods, and of the last weeks by the hour. */
  readonly rows: readonly TallyRow[]
  readonly recent: readonly TallyRow[]
  readonly standing: ProviderStatus | undefined
}

/** How the quota of a provider is used, and what its quota and its bill will come to; with the stash never more than its budgets allow. */
export function* lookAhead({ known, provider, basis, at, until, rows, recent, standing }: Ahead): Steps<{
  quota: QuotaUse | null
  bill: BillForecast | null
}> {
  const quota = known.quota(provider, at)
  const sides = billedSides(basis)
  const input = { known, provider, rows, recent, until }
  const course = function* (side: BilledSide) {
    return recent.length > 0 ? yield* BillCourse.of(input, side) : undefined
  }
  const [made, without] = [yield* course(sides.with), yield* course(sides.without)]
  const room = (end: number) => roomInBudgets(standing?.budgets ?? [], { now: until, end, currency: made?.plan.currency })
  const use =
    quota &&
    (yield* quotaUse({
      quota,
      rows,
      last: at,
      until,
      recent,
      reported: reportedLeft(standing),
      mostMore: mostMore(made, room(quotaPeriod(quota, at).end)),
    }))
  const bill = made && {
    ...{ currency: made.plan.currency, from: new Date(made.start), until: new Date(made.end), zone: made.plan.zone ?? 'UTC' },
    ...{ with: made.atEnd(room(made.end).money) ?? null, without: without?.atEnd(undefined) ?? null },
  }
  return { quota: use ?? null, bill: bill && (bill.with || bill.without) ? bill : null }
}

/** What the provider itself said is left of its quota, if it did. */
function reportedLeft(standing: ProviderStatus | undefined): number | undefined {
  return standing?.limits.find(({ reported }) => reported !== null)?.reported?.left
}

/** How many more calls may leave. */
function mostMore(made: BillCourse | undefined, { calls = Number.POSITIVE_INFINITY, money }: BudgetRoom): number {
  return made && money ? Math.min(calls, made.callsFor(money)) : calls
}
