import { coarsened } from '../../core/ledger/coarsen.js'
import { finerThan, type Grain, plainRow, type TallyRow } from '../../core/ledger/ledger-row.js'
import { readableRow } from '../../core/ledger/readable.js'
import type { LedgerStore } from '../../core/ports/ledger-store.js'
import type { Store } from '../../core/ports/store.js'
import { readFacts } from './read-rows.js'

/** How long the ledger keeps its details, milliseconds, and the time zone whose days reports distinguish besides those of plans. */
export interface LedgerKeeping {
  readonly minutesForMs: number
  readonly hoursForMs: number
  readonly zone: string | undefined
}

const minuteMs = 60_000
const hourMs = 60 * minuteMs
const dayMs = 24 * hourMs

/** How long after its end an hour or a day is put together: so late may other processes write. */
const afterMs = 10 * minuteMs

/** Slices put together at once, at the most, so that callers do not wait for it. */
const mostSlices = 25

/**
 * Puts minutes of the ledger together into hours once these are over, hours into days and days into months, and drops details that are older than they are
 * kept. Returns whether there are more to do.
 */
export async function keepLedgerSmall(store: Store, now: number, { minutesForMs, hoursForMs, zone }: LedgerKeeping): Promise<boolean> {
  const { facts } = await readFacts(store)
  let left = mostSlices
  for (const [grain, unitMs] of [
    ['hour', hourMs],
    ['day', dayMs],
    ['month', 30 * dayMs],
  ] as const) {
    const until = Math.floor((now - afterMs) / unitMs) * unitMs
    while (left > 0 && (await coarsenOldest(store.ledger, { grain, unitMs, until }, (rows) => coarsened(rows, grain, facts, zone)))) left--
  }
  // whole hours and days are dropped, with some to spare: where zones cut them elsewhere, details are read only when they are complete
  const dropDetails = (grain: Grain, until: number) => store.ledger.drop({ since: Number.NEGATIVE_INFINITY, until, grain, details: true })
  await dropDetails('minute', Math.floor((now - minutesForMs) / hourMs) * hourMs - hourMs)
  await dropDetails('hour', Math.floor((now - Math.max(minutesForMs, hoursForMs)) / dayMs) * dayMs - dayMs)
  return left === 0
}

/** Puts the rows of the next finer grain that lie in the same slice as the oldest of them together. Returns whether there were any. */
async function coarsenOldest(
  ledger: LedgerStore,
  { grain, unitMs, until }: { grain: Exclude<Grain, 'minute'>; unitMs: number; until: number },
  coarsen: (rows: TallyRow[]) => readonly TallyRow[],
): Promise<boolean> {
  const finer = finerThan[grain]
  const [oldest] = await ledger.read({ since: Number.NEGATIVE_INFINITY, until, grain: finer, most: 1 })
  if (!oldest) return false
  const start = Math.floor(oldest.bucket / unitMs) * unitMs
  const rows = await ledger.read({ since: start, until: start + unitMs, grain: finer })
  return ledger.replace(rows, coarsen(rows.flatMap((row) => readableRow(row) ?? [])).map(plainRow)) // false where another process came first, which goes on with it
}
