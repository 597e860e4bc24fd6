import Big from 'big.js'
import { billedCalls } from '../money/billed-calls.js'
import type { PlanOptions } from '../money/plan.js'
import { digitsOf } from '../money/price-digits.js'
import { type AmountsCompared, compareAmounts, sumOfAmounts } from './compare-amounts.js'
import { addCounts, byMoment, daysOfZone } from './counts-by-moment.js'
import type { TallyRow } from './ledger-row.js'
import { Tally } from './tally.js'

/** What a provider's own usage export, or an invoice, says of some days: those from `from` to `to`, `YYYY-MM-DD`, the last one included. */
export interface UsageOfDays {
  readonly from: string
  readonly to: string
  /** Null where it says nothing of calls. */
  readonly calls: number | null
  /** A decimal in the currency of the plan; null where it says nothing of money. */
  readonly amount: string | null
  /** Whether the amount is a tax, which no plan charges. */
  readonly isTax?: boolean
}

/** What can make a provider's count another than the ledger's. */
type Explanations = 'refused calls' | 'unmodified answers' | 'failed calls' | 'client errors' | 'other users of the key'

/** Some days compared with the ledger, one as a rule: those that a line of the export is about. */
export interface ReconciledDays {
  readonly from: string
  readonly to: string
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
  readonly days: readonly ReconciledDays[]
  /** Whether the export says anything of calls: else `theirs` are `ours`. */
  readonly tellsCalls: boolean
  readonly theirs: number
  readonly ours: number
  /** The sum of what is not explained, day by day, without sign. */
  readonly unexplained: number
  /** The sums of the days of which the export gives an amount; null where it gives none. */
  readonly amount: AmountsCompared | null
  /** What of the invoice is tax, which is not compared; a decimal, null where nothing is. */
  readonly tax: string | null
}

export interface ReconcileInput {
  readonly provider: string
  readonly usage: readonly UsageOfDays[]
  readonly rows: readonly TallyRow[]
  readonly plan: Partial<Pick<PlanOptions, 'notBilled' | 'currency'>>
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
  const { from, to } = rangeOf(input)
  const all = input.usage.filter((line) => (from === undefined || line.from >= from) && (to === undefined || line.to <= to))
  const inRange = { ...input, usage: all.filter(({ isTax }) => !isTax) }
  const taxes = all.flatMap(({ isTax, amount }) => (isTax && amount !== null ? [amount] : []))
  const range = { from, to }
  const differs = (some: readonly ReconciledDays[]) => some.reduce((sum, { difference }) => sum + Math.abs(difference), 0)
  const left = (some: readonly ReconciledDays[]) => some.reduce((sum, { unexplained }) => sum + Math.abs(unexplained), 0)
  const [moments, dayIn] = [byMoment(input.rows), daysOfZone(input.zone)]
  const tried = new Map<number, ReconciledDays[]>()
  const at = (halves: number) => {
    const days = tried.get(halves) ?? daysOf({ ...inRange, moments, dayIn }, range, halves)
    tried.set(halves, days)
    return days
  }
  // a shift of all days is the simplest explanation of all, so it comes before those of single days
  const shifts = [0, ...likelyShifts]
  const shift = shifts.find((halves) => differs(at(halves)) === 0) ?? shifts.find((halves) => left(at(halves)) === 0) ?? 0
  const compared = at(shift)
  return {
    ...{ provider: input.provider, zone: input.zone, shiftHours: shift / 2, from: from ?? null, to: to ?? null, days: compared },
    tellsCalls: tellsCalls(inRange.usage),
    theirs: compared.reduce((sum, { theirs }) => sum + theirs, 0),
    ours: compared.reduce((sum, { ours }) => sum + ours, 0),
    unexplained: left(compared),
    isConsistent: isConsistent(compared),
    amount: sumOfAmounts(compared.flatMap(({ amount }) => amount ?? [])),
    tax: taxes.length === 0 ? null : taxes.reduce((sum, tax) => sum.plus(tax), new Big(0)).toFixed(),
  }
}

/** The first and last day to compare: those asked for, without days of lines that are about others too. */
function rangeOf({ usage, from: since, to: until }: ReconcileInput): { from: string | undefined; to: string | undefined } {
  const [first] = usage.map((line) => line.from).sort()
  const last = usage
    .map((line) => line.to)
    .sort()
    .at(-1)
  const cutAt = (day: string | undefined) =>
    usage.find((line) => day !== undefined && line.from < day && line.to >= day && line.from !== line.to)
  const [begun, goesOn] = [cutAt(since), until === undefined ? undefined : cutAt(dayAfter(until, 1))]
  return {
    from: later(first, begun ? dayAfter(begun.to, 1) : since),
    to: earlier(last, goesOn ? dayAfter(goesOn.from, -1) : until),
  }
}

function dayAfter(day: string, days: number): string {
  return new Date(Date.parse(`${day}T00:00Z`) + days * 86_400_000).toISOString().slice(0, 10)
}

function later(day: string | undefined, other: string | undefined): string | undefined {
  return day !== undefined && other !== undefined && other > day ? other : (day ?? other)
}

function earlier(day: string | undefined, other: string | undefined): string | undefined {
  return day !== undefined && other !== undefined && other < day ? other : (day ?? other)
}

/** Whether at least two days differ, and the same kinds of calls explain each. */
function isConsistent(days: readonly ReconciledDays[]): boolean {
  const kinds = days.filter(({ difference }) => difference !== 0).map(({ explained }) => explained.map(({ by }) => by).join())
  return kinds.length >= 2 && kinds.every((one) => one !== '' && one === kinds[0])
}

interface Counted extends ReconcileInput {
  readonly moments: ReadonlyMap<number, Tally>
  readonly dayIn: (at: number) => string
}

function daysOf(
  { usage, moments, dayIn, plan, charges }: Counted,
  { from, to }: { from: string | undefined; to: string | undefined },
  shiftedHalfHours: number,
): ReconciledDays[] {
  const spans = new Map<string, Span>()
  const spanOf = (first: string, last: string) => {
    const name = `${first} ${last}`
    const span = spans.get(name) ?? { from: first, to: last, calls: undefined, amounts: [], ours: new Tally(), charged: new Big(0) }
    spans.set(name, span)
    return span
  }
  for (const line of usage) {
    const span = spanOf(line.from, line.to)
    if (line.calls !== null) span.calls = (span.calls ?? 0) + line.calls
    if (line.amount !== null) span.amounts.push(line.amount)
  }
  const told = [...spans.values()]
  const hasCalls = tellsCalls(usage)
  const longer = told.filter((span) => span.from !== span.to)
  const toldOn = (day: string) => spans.get(`${day} ${day}`) ?? longer.find((span) => day >= span.from && day <= span.to)
  const isInRange = (day: string) => from !== undefined && to !== undefined && day >= from && day <= to
  for (const [moment, tally] of moments) {
    const day = dayIn(moment + shiftedHalfHours * 1_800_000)
    if (isInRange(day)) addCounts((toldOn(day) ?? spanOf(day, day)).ours, tally)
  }
  for (const [day, charge] of charges ?? []) {
    const span = isInRange(day) ? toldOn(day) : undefined
    if (span) span.charged = span.charged.plus(charge)
  }
  return [...spans.values()]
    .sort((a, b) => (a.from < b.from || (a.from === b.from && a.to < b.to) ? -1 : 1))
    .map(({ from: first, to: last, calls, amounts, ours, charged }) => {
      const days = { from: first, to: last }
      const found = spanCompared(days, hasCalls && amounts.length === 0 ? (calls ?? 0) : (calls ?? billedCalls(plan, ours)), ours, plan)
      return { ...found, amount: amounts.length > 0 ? compareAmounts(amounts, charged, digitsOf(plan.currency ?? 'EUR')) : null }
    })
}

/** Whether lines say anything of calls, or of nothing else. */
function tellsCalls(usage: readonly UsageOfDays[]): boolean {
  return usage.some(({ calls }) => calls !== null) || usage.every(({ amount }) => amount === null)
}

interface Span {
  readonly from: string
  readonly to: string
  calls: number | undefined
  readonly amounts: string[]
  readonly ours: Tally
  charged: Big
}

function spanCompared(
  days: Pick<ReconciledDays, 'from' | 'to'>,
  theirs: number,
  tally: Tally,
  plan: ReconcileInput['plan'],
): Omit<ReconciledDays, 'amount'> {
  const ours = billedCalls(plan, tally)
  const difference = theirs - ours
  const explained = explain(difference, tally, plan)
  const found = explained.reduce((sum, { calls }) => sum + calls, 0)
  return { ...days, theirs, ours, difference, explained, unexplained: difference - found }
}

/** The fewest kinds of calls that make up a difference: unbilled ones that they count, or billed ones that they do not. */
function explain(difference: number, tally: Tally, { notBilled = [] }: ReconcileInput['plan']): ReconciledDays['explained'] {
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
