import { type BillingFacts, finerThan, type Grain, grains, type LedgerRow, type TallyRow } from '../../core/ledger/ledger-row.js'
import { areReadable, readableRow } from '../../core/ledger/readable.js'
import type { Store } from '../../core/ports/store.js'

/** The longest that a bucket can be, milliseconds. */
const longestMs = 32 * 86_400_000

/** Of a longer time only whole buckets are told, where these will do: so it is told quickly. */
const longMs = 62 * 86_400_000

/** Buckets that are wanted, and how. */
export interface Wanted {
  readonly since: number
  readonly until: number
  /** Moments that buckets should not reach over: where details are kept, these are read in place of a bucket that does. */
  readonly cuts: readonly number[]
  /** Longer buckets than this are read in detail, where details are kept. */
  readonly finest?: Grain | undefined
}

/** Rows of a ledger, and how many there were besides that could not be read. */
export interface ReadRows {
  readonly rows: readonly TallyRow[]
  readonly unreadable: number
}

/** The ledger's rows of a time, each call in one of them: longer buckets where that will do, details where it will not. */
export async function readRows(
  store: Store,
  { since, until, cuts, finest = 'month' }: Wanted,
  unwritten: readonly TallyRow[] = [],
): Promise<ReadRows> {
  const read = await store.ledger.read({ since: since - longestMs, until })
  const written = readable(read)
  let rows = [...written, ...unwritten]
  const isTooLong = ({ grain }: TallyRow) => grains.indexOf(grain) > grains.indexOf(finest)
  for (const grain of ['month', 'day', 'hour'] as const) {
    const [first, end] = extentOf(rows)
    const all = end - first > longMs ? cuts : [...cuts, first + 1, end - 1] // so that it shows when the first and the last call was
    const reachesOver = ({ bucket, lengthMs }: TallyRow) => all.some((cut) => cut > bucket && cut < bucket + lengthMs)
    const inDetail = rows.filter((row) => row.grain === grain && (isTooLong(row) || reachesOver(row)))
    if (inDetail.length === 0) continue
    const details = await detailsOf(store, inDetail)
    rows = rows.flatMap((row) => details.get(row) ?? [row])
  }
  return { rows: rows.filter(({ bucket }) => bucket >= since && bucket < until), unreadable: read.length - written.length }
}

function readable(rows: readonly LedgerRow[]): TallyRow[] {
  return rows.flatMap((row) => readableRow(row) ?? [])
}

function extentOf(rows: readonly TallyRow[]): [first: number, end: number] {
  let [first, end] = [Number.POSITIVE_INFINITY, Number.NEGATIVE_INFINITY]
  for (const { bucket, lengthMs } of rows) [first, end] = [Math.min(first, bucket), Math.max(end, bucket + lengthMs)]
  return [first, end]
}

/** The details of rows of one grain, of those of which all are kept. */
async function detailsOf(store: Store, rows: readonly TallyRow[]): Promise<Map<TallyRow, TallyRow[]>> {
  const byPlace = new Map<string, TallyRow[]>()
  for (const { start, end } of stretches(rows)) {
    const finer = finerThan[rows[0]?.grain as keyof typeof finerThan]
    for (const detail of readable(await store.ledger.read({ since: start, until: end, grain: finer, details: true }))) {
      add(byPlace, placeOf(detail), detail)
    }
  }
  const found = new Map<TallyRow, TallyRow[]>()
  for (const row of rows) {
    const its = (byPlace.get(placeOf(row)) ?? []).filter(({ bucket }) => bucket >= row.bucket && bucket < row.bucket + row.lengthMs)
    const calls = its.reduce((sum, { tally }) => sum + tally.asked + tally.upstream, 0)
    if (calls === row.tally.asked + row.tally.upstream) found.set(row, its)
  }
  return found
}

/** Stretches of time that rows cover without a gap. */
function stretches(rows: readonly TallyRow[]): { start: number; end: number }[] {
  const found: { start: number; end: number }[] = []
  for (const { bucket, lengthMs } of [...rows].sort((a, b) => a.bucket - b.bucket)) {
    const last = found.at(-1)
    if (last && bucket <= last.end) last.end = Math.max(last.end, bucket + lengthMs)
    else found.push({ start: bucket, end: bucket + lengthMs })
  }
  return found
}

function placeOf({ mode, provider, endpoint }: Pick<TallyRow, 'mode' | 'provider' | 'endpoint'>): string {
  return JSON.stringify([mode, provider, endpoint])
}

function add(groups: Map<string, TallyRow[]>, name: string, row: TallyRow): void {
  const group = groups.get(name)
  if (group) group.push(row)
  else groups.set(name, [row])
}

/** What the ledger knows of plans, quotas and limits, oldest first, and how much there was besides that could not be read. */
export async function readFacts(store: Store): Promise<{ readonly facts: BillingFacts[]; readonly unreadable: number }> {
  const all = await store.ledger.facts()
  const facts = all.filter(areReadable)
  return { facts, unreadable: all.length - facts.length }
}
