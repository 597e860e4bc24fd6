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
type Explanations = 'refused calls' | 'unmodified answers' | 'failed calls' | 'client errors' | 'other users of the key'

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
  /** By how many hours the days of the export are ahead of those of the zone, where its counts agree only so; 0 where they agree as they are. */
  readonly shiftHours: number
  /** The first and last day compared: those of the export, or of them as far as was asked for. */
  readonly from: string | null
  readonly to: string | null
  /** Whether what explains the calls of one day explains that of every other: else it may be coincidence. */
  readonly isConsistent: boolean
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
  /** The first and last day to compare, `YYYY-MM-DD`. Default: those of the export. */
  readonly from?: string | undefined
  readonly to?: string | undefined
}

/** Offsets that an export's days may have against the zone it is thought to be in, in half hours: whole hours first, and small ones. */
const likelyShifts = Array.from({ length: 57 }, (_, i) => i - 28)
  .filter((halves) => halves !== 0)
  .sort((one, other) => Math.abs(one % 2) - Math.abs(other % 2) || Math.abs(one) - Math.abs(other))

/** Compares a provider's usage with the ledger, day by day, over the days of its export, and looks for what explains a difference. */
export function reconcile(input: ReconcileInput): Reconciliation {
  const days = input.usage.map(({ day }) => day).sort()
  const [from, to] = [later(days[0], input.from), earlier(days.at(-1), input.to)]
  const inRange = {
    ...input,
    usage: input.usage.filter(({ day }) => (from === undefined || day >= from) && (to === undefined || day <= to)),
  }
  const range = { from, to }
  const differs = (some: readonly ReconciledDay[]) => some.reduce((sum, { difference }) => sum + Math.abs(difference), 0)
  const left = (some: readonly ReconciledDay[]) => some.reduce((sum, { unexplained }) => sum + Math.abs(unexplained), 0)
  const at = (halves: number) => daysOf(inRange, range, halves)
  // a shift of all days is the simplest explanation of all, so it comes before those of single days
  const shifts = [0, ...likelyShifts]
  const shift = shifts.find((halves) => differs(at(halves)) === 0) ?? shifts.find((halves) => left(at(halves)) === 0) ?? 0
  const compared = at(shift)
  return {
    ...{ provider: input.provider, zone: input.zone, shiftHours: shift / 2, from: from ?? null, to: to ?? null, days: compared },
    theirs: compared.reduce((sum, { theirs }) => sum + theirs, 0),
    ours: compared.reduce((sum, { ours }) => sum + ours, 0),
    unexplained: left(compared),
    isConsistent: isConsistent(compared),
    amount: sumOfAmounts(compared.flatMap(({ amount }) => amount ?? [])),
  }
}

function later(day: string | undefined, other: string | undefined): string | undefined {
  return day !== undefined && other !== undefined && other > day ? other : (day ?? other)
}

function earlier(day: string | undefined, other: string | undefined): string | undefined {
  return day !== undefined && other !== undefined && other < day ? other : (day ?? other)
}

/** Whether at least two days differ, and the same kinds of calls explain each. */
function isConsistent(days: readonly ReconciledDay[]): boolean {
  const kinds = days.filter(({ difference }) => difference !== 0).map(({ explained }) => explained.map(({ by }) => by).join())
  return kinds.length >= 2 && kinds.every((one) => one !== '' && one === kinds[0])
}

function daysOf(
  { usage, rows, plan, zone, charges }: ReconcileInput,
  { from, to }: { from: string | undefined; to: string | undefined },
  shiftedHalfHours: number,
): ReconciledDay[] {
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
    if (from === undefined || to === undefined || day < from || day > to) continue
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
