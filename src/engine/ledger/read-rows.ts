import { Turns } from '../../core/in-pieces.js'
import { accountName, type BillingFacts, finerThan, type Grain, grains, placeOfRow, type TallyRow } from '../../core/ledger/ledger-row.js'
import { areReadable } from '../../core/ledger/readable-facts.js'
import { readableRow } from '../../core/ledger/readable-row.js'
import type { Clock } from '../../core/ports/clock.js'
import type { Store } from '../../core/ports/store.js'

/** The longest that a bucket can be, milliseconds. */
const longestMs = 32 * 86_400_000

/** Of a longer time only whole buckets are told, where these will do: so it is told quickly. */
const longMs = 62 * 86_400_000

/** Grains that are read in detail where whole buckets will not do. */
const longerGrains = ['month', 'day', 'hour'] as const

/** Buckets that are wanted, and how. */
export interface Wanted {
  readonly since: number
  readonly until: number
  /** Moments that buckets should not reach over: where details are kept, these are read in place of a bucket that does. */
  readonly cuts: readonly number[]
  /** Longer buckets than this are read in detail, where details are kept. */
  readonly finest?: Grain | undefined
}

/** What is read, and by what time others come between. */
export interface Reading {
  readonly store: Store
  readonly clock: Pick<Clock, 'later' | 'ticks'>
  /** What was read in detail before, where the same may be wanted again; by account and bucket. */
  readonly details?: Map<string, Details>
  /** Told how far reading is, in steps, and of how many. */
  readonly onProgress?: ((done: number, of: number) => void) | undefined
}

/** A row, and all of its details. */
interface Details {
  readonly of: TallyRow
  readonly rows: readonly TallyRow[]
}

/** Rows of a ledger, and how many there were besides that could not be read. */
export interface ReadRows {
  readonly rows: readonly TallyRow[]
  readonly unreadable: number
}

/**
 * The ledger's rows of a time, each call in one of them: longer buckets where that will do, details where it will not. Read account by account,
 * so that calls can come between.
 */
export async function readRows(
  reading: Reading,
  { since, until, cuts, finest = 'month' }: Wanted,
  unwritten: readonly TallyRow[] = [],
): Promise<ReadRows> {
  const { store, clock } = reading
  const turns = new Turns(clock)
  const lists: TallyRow[][] = [[...unwritten]]
  let unreadable = 0
  const accounts = await store.ledger.accounts()
  const steps = (accounts.length + 1) * (1 + longerGrains.length)
  let done = 0
  const next = async () => {
    reading.onProgress?.(done++, steps)
    await turns.next()
  }
  for (const account of accounts) {
    await next()
    const rows: TallyRow[] = []
    lists.push(rows)
    for (const row of await store.ledger.read({ since: since - longestMs, until, of: account })) {
      const readable = readableRow(row)
      if (readable) rows.push(readable)
      else unreadable++
    }
  }
  const isTooLong = ({ grain }: TallyRow) => grains.indexOf(grain) > grains.indexOf(finest)
  for (const grain of longerGrains) {
    const [first, end] = extentOf(lists)
    const ends = end - first > longMs ? cuts : [...cuts, first + 1, end - 1] // so that it shows when the first and the last call was
    const reachesOver = ({ bucket, lengthMs }: TallyRow) => ends.some((cut) => cut > bucket && cut < bucket + lengthMs)
    for (const [i, rows] of lists.entries()) {
      await next()
      const inDetail = rows.filter((row) => row.grain === grain && (isTooLong(row) || reachesOver(row)))
      if (inDetail.length === 0) continue
      const details = await detailsOf(reading, inDetail, turns)
      lists[i] = rows.flatMap((row) => details.get(row) ?? [row])
    }
  }
  return { rows: await inTimeOrder(lists, { since, until }, turns), unreadable }
}

function extentOf(lists: readonly (readonly TallyRow[])[]): [first: number, end: number] {
  let [first, end] = [Number.POSITIVE_INFINITY, Number.NEGATIVE_INFINITY]
  for (const rows of lists)
    for (const { bucket, lengthMs } of rows) {
      if (bucket < first) first = bucket
      if (bucket + lengthMs > end) end = bucket + lengthMs
    }
  return [first, end]
}

/** The rows of a time, the oldest first, so that who sorts them finds them sorted. */
async function inTimeOrder(
  lists: readonly (readonly TallyRow[])[],
  { since, until }: Pick<Wanted, 'since' | 'until'>,
  turns: Turns,
): Promise<TallyRow[]> {
  const byBucket = new Map<number, TallyRow[]>()
  for (const rows of lists) {
    await turns.next()
    for (const row of rows) {
      if (row.bucket < since || row.bucket >= until) continue
      const group = byBucket.get(row.bucket)
      if (group) group.push(row)
      else byBucket.set(row.bucket, [row])
    }
  }
  const all: TallyRow[] = []
  for (const [, rows] of [...byBucket].sort(([a], [b]) => a - b)) {
    await turns.next()
    for (const row of rows) all.push(row)
  }
  return all
}

/** How long a stretch of details is read at once, milliseconds, so that it is done in a moment. */
const readAtOnceMs = { minute: 4 * 3_600_000, hour: 10 * 86_400_000, day: 300 * 86_400_000 }

/** The details of rows of one grain, of those of which all are kept. */
async function detailsOf(
  { store, details: known }: Reading,
  rows: readonly TallyRow[],
  turns: Turns,
): Promise<Map<TallyRow, readonly TallyRow[]>> {
  const byAccount = new Map<string, TallyRow[]>()
  const found = new Map<TallyRow, readonly TallyRow[]>()
  for (const row of rows) {
    const before = known?.get(placeOfRow(row))
    if (before && callsOf(before.of) === callsOf(row)) found.set(row, before.rows)
    else add(byAccount, accountName(row), row)
  }
  for (const its of byAccount.values()) {
    const [{ grain, mode, provider, endpoint }] = its as [TallyRow]
    const finer = finerThan[grain as keyof typeof finerThan]
    const details: TallyRow[] = []
    for (const { start, end } of stretches(its)) {
      for (let from = start; from < end; from += readAtOnceMs[finer]) {
        const until = Math.min(end, from + readAtOnceMs[finer])
        const read = await store.ledger.read({ since: from, until, grain: finer, details: true, of: { mode, provider, endpoint } })
        details.push(...read.flatMap((row) => readableRow(row) ?? []))
        await turns.next()
      }
    }
    for (const row of its) {
      const inIt = details.filter(({ bucket }) => bucket >= row.bucket && bucket < row.bucket + row.lengthMs)
      if (inIt.reduce((sum, one) => sum + callsOf(one), 0) !== callsOf(row)) continue
      found.set(row, inIt)
      known?.set(placeOfRow(row), { of: row, rows: inIt })
    }
  }
  return found
}

function callsOf({ tally }: TallyRow): number {
  return tally.asked + tally.upstream
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
