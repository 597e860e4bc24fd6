import { coarsened } from '../core/ledger/coarsen.js'
import type { Store } from '../core/ports/store.js'

/** How long the ledger keeps its finer buckets, milliseconds, and the time zone whose days reports tell apart besides those of plans. */
export interface LedgerKeeping {
  readonly minutesForMs: number
  readonly hoursForMs: number
  readonly zone: string | undefined
}

const hourMs = 3_600_000
const dayMs = 24 * hourMs

/** Slices put together at once, at the most, so that callers do not wait for it. */
const mostSlices = 50

/** Puts buckets of the ledger together that are older than they are to be kept apart. Returns whether there are more to do. */
export async function keepLedgerSmall(store: Store, now: number, { minutesForMs, hoursForMs, zone }: LedgerKeeping): Promise<boolean> {
  const facts = await store.readFacts()
  let left = mostSlices
  for (const [grain, unitMs, keptMs] of [
    ['hour', hourMs, minutesForMs],
    ['day', dayMs, Math.max(minutesForMs, hoursForMs)],
  ] as const) {
    const begin = (at: number) => Math.floor(at / unitMs) * unitMs
    const slice = (at: number) => ({ start: begin(at), end: begin(at) + unitMs })
    while (left > 0 && (await store.coarsenLedger(begin(now - keptMs), grain, slice, (rows) => coarsened(rows, grain, facts, zone)))) left--
  }
  return left === 0
}
