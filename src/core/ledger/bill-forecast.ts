import Big from 'big.js'
import type { HourOfCalls } from '../limits/call-series.js'
import { type CallForecast, forecastCalls } from '../limits/forecast.js'
import { chargeOfPeriod } from '../money/period-charge.js'
import type { PlanOptions } from '../money/plan.js'
import { billingPeriod, termsAt } from '../money/plan-periods.js'
import { digitsOf } from '../money/price-digits.js'
import { filtered, forEach, type Steps } from '../steps.js'
import type { FactsInForce } from './facts-in-force.js'
import { hoursOf } from './hours-of-calls.js'
import type { TallyRow } from './ledger-row.js'
import { type Pricing, type Usage, usageSteps } from './plan-usage.js'

/** Decimals: eight times in ten it will be from `low` to `high`; these are null where too little is known to say. */
export interface MoneyRange {
  readonly low: string | null
  readonly likely: string
  readonly high: string | null
}

/** What the present billing period of a provider will cost at its end if calls go on as they did. */
export interface BillForecast {
  readonly currency: string
  readonly from: Date
  readonly until: Date
  /** IANA time zone of the plan, in whose days it begins and ends. */
  readonly zone: string
  /** Null where there is nothing to tell it by. */
  readonly with: MoneyRange | null
  readonly without: MoneyRange | null
}

/** How calls of one side of a report are billed, and which of its rows are of that side. */
export interface BilledSide extends Pick<Pricing, 'callsOf' | 'unitsOf'> {
  readonly includes: (row: TallyRow) => boolean
}

/** Rows of a provider: of its billing period at least, and of the last weeks by the hour. `until`: the present. */
interface BillInput {
  readonly known: FactsInForce
  readonly provider: string
  readonly rows: readonly TallyRow[]
  readonly recent: readonly TallyRow[]
  readonly until: number
}

/** What the present period used so far; and what the last weeks did, in all and by the hour: calls billed, and those that left. */
interface Counted {
  readonly soFar: Usage
  readonly usual: Usage
  readonly billed: number
  readonly upstream: number
  readonly hours: readonly HourOfCalls[]
}

/** The present billing period of a provider, as one side of a report has it: what it costs by now, and with more calls. */
export class BillCourse {
  readonly start: number
  readonly end: number
  readonly plan: PlanOptions
  readonly #until: number
  readonly #soFar: Usage
  /** Calls billed in the last weeks, and what they used. */
  readonly #billed: number
  readonly #callsPerBilled: number
  readonly #usual: { readonly metered: number; readonly own: Big }
  readonly #forecast: CallForecast | undefined

  private constructor(plan: PlanOptions, until: number, { soFar, usual, billed, upstream, hours }: Counted) {
    const { start, end } = billingPeriod(plan, until - 1)
    this.plan = plan
    this.start = start
    this.end = end
    this.#until = until
    this.#soFar = soFar
    this.#billed = billed
    this.#callsPerBilled = billed === 0 ? 1 : upstream / billed
    this.#usual = { metered: usual.metered.reduce((sum, { calls }) => sum + calls, 0), own: usual.own }
    this.#forecast = forecastCalls({ used: 0, now: until, end, hours, zone: plan.zone ?? 'UTC' })
  }

  /** Undefined where the provider has no plan with periods. */
  static *of({ known, provider, rows, recent, until }: BillInput, side: BilledSide): Steps<BillCourse | undefined> {
    const plan = known.plan(provider, until - 1)
    if (!plan || plan.prepaid) return undefined
    const { start } = billingPeriod(plan, until - 1)
    const its = yield* filtered(recent, side.includes)
    const inPeriod = yield* filtered(rows, (row) => row.bucket >= start && row.bucket < until && side.includes(row))
    const billedIn = (row: TallyRow) => side.callsOf(row, plan)
    let [billed, upstream] = [0, 0]
    yield* forEach(its, (row) => {
      billed += billedIn(row)
      upstream += row.tally.upstream
    })
    const soFar = yield* usageSteps(known, plan, inPeriod, side)
    const usual = yield* usageSteps(known, plan, its, side)
    return new BillCourse(plan, until, { soFar, usual, billed, upstream, hours: yield* hoursOf(its, billedIn, until) })
  }

  /** What the period costs at its end; undefined where there is too little to tell. No more is spent than `most`. */
  atEnd(most: Big | undefined): MoneyRange | undefined {
    if (!this.#forecast) return undefined
    const soFar = this.#chargeWith(0)
    const amount = (calls: number) => {
      const charge = this.#chargeWith(calls)
      const bounded = most && charge.minus(soFar).gt(most) ? soFar.plus(most) : charge
      return bounded.round(digitsOf(this.plan.currency), Big.roundHalfUp).toFixed()
    }
    const { low, likely, high } = this.#forecast.usedAtEnd
    return { low: low === null ? null : amount(low), likely: amount(likely), high: high === null ? null : amount(high) }
  }

  /** The most calls that cost no more than this besides, those that are not billed among them. */
  callsFor(money: Big): number {
    const soFar = this.#chargeWith(0)
    const fits = (calls: number) => this.#chargeWith(calls).minus(soFar).lte(money)
    let [fitting, tooMany] = [0, 1]
    while (tooMany < tooManyCalls && fits(tooMany)) [fitting, tooMany] = [tooMany, tooMany * 2]
    if (tooMany >= tooManyCalls) return Number.POSITIVE_INFINITY
    while (tooMany - fitting > 1) {
      const middle = Math.floor((fitting + tooMany) / 2)
      if (fits(middle)) fitting = middle
      else tooMany = middle
    }
    return Math.floor(fitting * this.#callsPerBilled)
  }

  /** What it costs with so many more billed calls, which are like those of the last weeks. */
  #chargeWith(more: number): Big {
    const { metered, own } = this.#soFar
    const share = this.#billed === 0 ? 0 : more / this.#billed
    const calls = Math.round(share * this.#usual.metered)
    const next = calls > 0 ? [{ calls, terms: termsAt(this.plan, this.#until) }] : []
    const others = own.plus(this.#usual.own.times(share.toFixed(12)))
    return chargeOfPeriod(termsAt(this.plan, this.start), [...metered, ...next], others, this.plan.currency)
  }
}

const tooManyCalls = 2 ** 40
