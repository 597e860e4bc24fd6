import type { LedgerOptions } from './config/stash-config.js'
import { defaults } from './core/defaults.js'
import { settledUntil } from './core/ledger/settled-until.js'
import type { Clock } from './core/ports/clock.js'
import type { Store } from './core/ports/store.js'
import { durationMs } from './core/time/duration.js'
import type { LedgerKeeping } from './engine/ledger/ledger-upkeep.js'
import { turnsBy } from './engine/system-clock.js'
import { onDemand } from './loaded-later.js'

/** How often records that have run out are dropped and the ledger is put together, milliseconds. */
const sweepEveryMs = 600_000

/** Sweeps records and ledger at once and then every now and then; returns what stops it. Entries stay until the store needs the room. */
export function sweepNowAndThen(store: Store, clock: Clock, keeping: LedgerKeeping): () => Promise<void> {
  let cancel = () => {}
  let stopped = false
  const sweep = async () => {
    void store.records.sweep(clock.now())
    await smaller().catch(() => {}) // told by the store's guard
    if (!stopped) cancel = clock.later(sweepEveryMs, () => (sweeping = sweep()))
  }
  /** The hours that were put together already. */
  let settled = Number.NaN
  const smaller = async () => {
    const now = clock.now()
    const until = settledUntil(now, 3_600_000)
    if (until === settled) return
    const accounts = await store.ledger.accounts()
    if (accounts.length === 0) return
    const { keepLedgerSmall } = await onDemand.upkeep.get()
    await keepLedgerSmall({ store, accounts, clock: turnsBy(clock), now, isOver: () => stopped }, keeping)
    settled = until
  }
  let sweeping = sweep()
  return () => {
    stopped = true
    cancel()
    return sweeping
  }
}

export function keepingOf({ minutesFor = defaults.minutesFor, hoursFor = defaults.hoursFor, zone }: LedgerOptions = {}): LedgerKeeping {
  return { minutesForMs: durationMs(minutesFor) as number, hoursForMs: durationMs(hoursFor) as number, zone }
}
