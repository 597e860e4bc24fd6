import Big from 'big.js'
import { Temporal } from 'temporal-polyfill'
import { billedCalls } from '../money/billed-calls.js'
import type { PlanOptions } from '../money/plan.js'
import { momentOf, type TallyRow } from './ledger-row.js'
import { Tally } from './tally.js'

/** What a provider's own usage export says of one day, `YYYY-MM-DD`. */
export interface UsageOfDay {
  readonly day: string
  /** Null where it says nothing of calls. */
  readonly calls: number | null
  /** A decimal in the currency of the plan; null where it says nothing of money. */
  readonly amount: string | null
}

/** What can make a provider's count another than the ledger's. */
type Explanations =
  | 'refused calls'
  | 'unmodified answers'
  | 'failed calls'
  | 'client errors'
  | 'other users of the key'
  | 'days of another time zone'

/** One day compared with the ledger. */
export interface ReconciledDay {
  readonly day: string
  readonly theirs: number
  /** Calls that the plan bills, by the ledger. */
  readonly ours: number
  /** Theirs less ours. */
  readonly difference: number
  /** What of the difference is explained, and by what; calls that count for them and not here are above 0. */
  readonly explained: readonly { readonly by: Explanations; readonly calls: number }[]
  readonly unexplained: number
  /** Money: theirs, the plan's for the calls of the ledger, and theirs less that; null where the export says nothing of it. */
  readonly amount: AmountsCompared | null
}

/** Decimals in the currency of the plan. */
interface AmountsCompared {
  readonly theirs: string
  readonly ours: string
  readonly difference: string
}

export interface Reconciliation {
  readonly provider: string
  /** Time zone whose days were compared. */
  readonly zone: string
  readonly days: readonly ReconciledDay[]
  readonly theirs: number
  readonly ours: number
  /** The sum of what is not explained, day by day, without sign. */
  readonly unexplained: number
  /** The sums of the days of which the export gives an amount; null where it gives none. */
  readonly amount: AmountsCompared | null
}

export interface ReconcileInput {
  readonly provider: string
  readonly usage: readonly UsageOfDay[]
  readonly rows: readonly TallyRow[]
  readonly plan: Pick<PlanOptions, 'notBilled'>
  /** IANA time zone of the days of the export. */
  readonly zone: string
  /** What the plan charges for the calls of a day in that zone, as decimals. */
  readonly charges?: ReadonlyMap<string, string>
}

/** Offsets that an export's days may have against the zone it is thought to be in, in half hours. */
const halfHours = Array.from({ length: 57 }, (_, i) => i - 28)

/** Compares a provider's usage with the ledger, day by day, and looks for what explains a difference. */
export function reconcile(input: ReconcileInput): Reconciliation {
  const here = daysOf(input, 0)
  const differs = (days: readonly ReconciledDay[]) => days.reduce((sum, { unexplained }) => sum + Math.abs(unexplained), 0)
  const unexplained = differs(here)
  const shift = unexplained === 0 ? undefined : halfHours.find((halves) => halves !== 0 && differs(daysOf(input, halves)) === 0)
  const days = shift === undefined ? here : here.map(explainedByZone)
  return {
    ...{ provider: input.provider, zone: input.zone, days },
    theirs: days.reduce((sum, { theirs }) => sum + theirs, 0),
    ours: days.reduce((sum, { ours }) => sum + ours, 0),
    unexplained: differs(days),
    amount: sumOfAmounts(days.flatMap(({ amount }) => amount ?? [])),
  }
}

function explainedByZone(day: ReconciledDay): ReconciledDay {
  const by = 'days of another time zone'
  return day.unexplained === 0 ? day : { ...day, explained: [...day.explained, { by, calls: day.unexplained }], unexplained: 0 }
}

function daysOf({ usage, rows, plan, zone, charges }: ReconcileInput, shiftedHalfHours: number): ReconciledDay[] {
  const theirs = new Map<string, number>()
  const amounts = new Map<string, Big>()
  for (const { day, calls, amount } of usage) {
    if (calls !== null) theirs.set(day, (theirs.get(day) ?? 0) + calls)
    if (amount !== null) amounts.set(day, (amounts.get(day) ?? new Big(0)).plus(amount))
  }
  const tellsCalls = theirs.size > 0 || amounts.size === 0
  const ours = new Map<string, Tally>()
  for (const row of rows) {
    const { tally } = row
    const day = dayIn(zone, momentOf(row) + shiftedHalfHours * 1_800_000)
    const sum = ours.get(day) ?? new Tally()
    sum.merge(tally)
    ours.set(day, sum)
  }
  return [...new Set([...theirs.keys(), ...amounts.keys(), ...ours.keys()])].sort().map((day) => {
    const tally = ours.get(day) ?? new Tally()
    const calls = tellsCalls ? (theirs.get(day) ?? 0) : billedCalls(plan, tally)
    const amount = amounts.get(day)
    return { ...dayOf(day, calls, tally, plan), amount: amount ? compared(amount, new Big(charges?.get(day) ?? 0)) : null }
  })
}

function compared(theirs: Big, ours: Big): AmountsCompared {
  return { theirs: theirs.toFixed(), ours: ours.toFixed(), difference: theirs.minus(ours).toFixed() }
}

function sumOfAmounts(amounts: readonly AmountsCompared[]): AmountsCompared | null {
  const sum = (name: 'theirs' | 'ours') => amounts.reduce((total, amount) => total.plus(amount[name]), new Big(0))
  return amounts.length === 0 ? null : compared(sum('theirs'), sum('ours'))
}

function dayOf(day: string, theirs: number, tally: Tally, plan: ReconcileInput['plan']): Omit<ReconciledDay, 'amount'> {
  const ours = billedCalls(plan, tally)
  const difference = theirs - ours
  const explained = explain(difference, tally, plan)
  const found = explained.reduce((sum, { calls }) => sum + calls, 0)
  return { day, theirs, ours, difference, explained, unexplained: difference - found }
}

/** The fewest kinds of calls that make up a difference: unbilled ones that they count, or billed ones that they do not. */
function explain(difference: number, tally: Tally, { notBilled = [] }: ReconcileInput['plan']): ReconciledDay['explained'] {
  if (difference === 0) return []
  const kinds = (
    [
      ['refused calls', tally.upRefused, notBilled.includes('refused')],
      ['unmodified answers', tally.upUnmodified, notBilled.includes('unmodified')],
      ['failed calls', tally.upFailed, notBilled.includes('failed')],
      ['client errors', tally.upClientError, notBilled.includes('clientError')],
      ['other users of the key', tally.others, true],
    ] as const
  ).flatMap(([by, calls, isUnbilled]) => (calls > 0 && isUnbilled === difference > 0 ? [{ by, calls: isUnbilled ? calls : -calls }] : []))
  const subsets = Array.from({ length: 2 ** kinds.length }, (_, bits) => kinds.filter((_kind, i) => bits & (1 << i)))
  const fitting = subsets.filter((subset) => subset.reduce((sum, { calls }) => sum + calls, 0) === difference)
  return fitting.sort((a, b) => a.length - b.length)[0] ?? []
}

function dayIn(zone: string, at: number): string {
  return Temporal.Instant.fromEpochMilliseconds(at).toZonedDateTimeISO(zone).toPlainDate().toString()
}
