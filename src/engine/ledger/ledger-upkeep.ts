import { coarsened } from '../../core/ledger/coarsen.js'
import type { Store } from '../../core/ports/store.js'

/** How long the ledger keeps its details, milliseconds, and the time zone whose days reports tell apart besides those of plans. */
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
  const facts = await store.readFacts()
  let left = mostSlices
  for (const [grain, unitMs] of [
    ['hour', hourMs],
    ['day', dayMs],
    ['month', 30 * dayMs],
  ] as const) {
    const begin = (at: number) => Math.floor(at / unitMs) * unitMs
    const slice = (at: number) => ({ start: begin(at), end: begin(at) + unitMs })
    while (left > 0 && (await store.coarsenLedger(begin(now - afterMs), grain, slice, (rows) => coarsened(rows, grain, facts, zone))))
      left--
  }
  // whole hours and days are dropped, with some to spare: where zones cut them elsewhere, details are read only when they are whole
  await store.dropDetails('minute', Math.floor((now - minutesForMs) / hourMs) * hourMs - hourMs)
  await store.dropDetails('hour', Math.floor((now - Math.max(minutesForMs, hoursForMs)) / dayMs) * dayMs - dayMs)
  return left === 0
}
