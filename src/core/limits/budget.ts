import type Big from 'big.js'
import { defaults } from '../defaults.js'
import { decimal } from '../money/decimal.js'
import type { PlanOptions, Pricing, UnbilledOutcome } from '../money/plan.js'
import type { CalendarPeriod } from '../time/calendar-period.js'

/** In which period a budget holds, and what happens as it is spent. */
export interface BudgetTerms {
  /** Default `month`. */
  readonly per?: CalendarPeriod
  /** IANA time zone whose calendar the period follows. Default: the plan's, else `"UTC"`. */
  readonly zone?: string
  /** Share of the budget at which the event `budget` warns. Default 0.8. */
  readonly warnAt?: number
  /** Share from which older answers are given where their endpoint allows any, and nothing leaves in the background. Default 0.9. */
  readonly stretchAt?: number
  /** Share that no call may pass: `BudgetSpentError`. Default 1. */
  readonly stopAt?: number | 'never'
}

/** How much may be spent on a provider in a period of the calendar: money, by its plan, or calls. */
export type BudgetOptions = BudgetTerms &
  (
    | {
        /**
         * A decimal in the currency of the provider's plan, which prices every call when it leaves, at the most that it can cost. Base fee and
         * minimum, which no call causes, do not count. What the ledger knows of the present period counts from the begin.
         */
        readonly money: string
        readonly calls?: undefined
      }
    | {
        /** Calls, in place of `money`. */
        readonly calls: number
        readonly money?: undefined
      }
  )

export const budgetLevels = ['free', 'warn', 'stretch', 'stop'] as const
/** How far a budget is spent: see `BudgetOptions`. */
export type BudgetLevel = (typeof budgetLevels)[number]

/** A budget, compiled. */
export interface Budget {
  /** Tells it from the others of its provider. */
  readonly id: string
  /** What it is, e.g. `budget of EUR 50 per month`. */
  readonly name: string
  /** A decimal: money, or calls where `currency` is undefined. */
  readonly amount: string
  readonly currency: string | undefined
  readonly per: CalendarPeriod
  readonly zone: string
  readonly warnAt: number
  readonly stretchAt: number
  readonly stopAt: number
  /** What these shares come to; undefined of those that never do. */
  readonly thresholds: Readonly<Record<'warn' | 'stretch' | 'stop', Big | undefined>>
  /** What prices the calls. */
  readonly plan: Pricing
}

/** What is known of the price of an endpoint's calls before they leave. */
export interface CallPrice {
  /** Where it is another than the plan's. */
  readonly perCall?: string | undefined
  /** How many calls of the plan one counts as. */
  readonly weight: number
  readonly unbilled: readonly UnbilledOutcome[]
  /** Units that one call can cost at the most, by name, as far as the configuration says. */
  readonly unitsUpTo: Readonly<Record<string, number>>
}

/** What a call is to be compared with, and what it can cost. */
export interface Spending {
  readonly budgets: readonly Budget[]
  readonly price: CallPrice
}

/** Compiles options that have been checked; `plan` is the provider's. */
export function compileBudget(options: BudgetOptions, plan: PlanOptions | undefined): Budget {
  const { money, calls, per = defaults.budgetPer, zone = plan?.zone ?? defaults.zone, ...shares } = options
  const { warnAt = defaults.warnAt, stretchAt = defaults.stretchAt, stopAt = defaults.stopAt } = shares
  const amount = money ?? String(calls)
  const currency = money === undefined ? undefined : plan?.currency
  const threshold = (share: number | 'never') => (Number.isFinite(share) ? decimal(amount).times(share) : undefined)
  return {
    id: `${currency ?? 'calls'} ${per}`,
    name: `budget of ${currency === undefined ? `${Number(amount).toLocaleString('en')} calls` : `${currency} ${amount}`} per ${per}`,
    ...{ amount, currency, per, zone, warnAt, stretchAt },
    stopAt: stopAt === 'never' ? Number.POSITIVE_INFINITY : stopAt,
    thresholds: { warn: threshold(warnAt), stretch: threshold(stretchAt), stop: threshold(stopAt) },
    plan: currency === undefined || !plan ? callsOnly : withoutFees(plan),
  }
}

/** Prices every call at one, so that calls are counted as money is. */
const callsOnly: Pricing = { perCall: '1', period: 'year' }

/** What a plan charges for calls and units alone. */
function withoutFees({ baseFee: _fee, minimum: _minimum, rounding: _rounding, changes = [], ...plan }: PlanOptions): Pricing {
  return { ...plan, changes: changes.map(({ baseFee: _, minimum: __, rounding: ___, ...change }) => change) }
}
