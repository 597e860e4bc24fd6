import Big from 'big.js'
import { Temporal } from 'temporal-polyfill'
import { dailyCharges } from '../core/ledger/daily-charges.js'
import { factsInForce } from '../core/ledger/facts-in-force.js'
import type { LedgerMode } from '../core/ledger/ledger-row.js'
import { type Reconciliation, reconcile, type UsageOfDays } from '../core/ledger/reconcile.js'
import type { Store } from '../core/ports/store.js'
import { type Reading, readFacts, readRows } from '../engine/ledger/read-rows.js'
import { systemClock } from '../engine/system-clock.js'

export interface ReconciliationWanted {
  readonly provider: string
  readonly usage: readonly UsageOfDays[]
  /** Only calls made in this mode count; undefined: all. */
  readonly mode?: LedgerMode | undefined
  /** IANA time zone of the days of the export; undefined: that of the plan, else UTC. */
  readonly zone?: string | undefined
  /** How much tax is in the amounts, in percent; default 0. */
  readonly tax?: number
  /** The first and last day to compare; undefined: those of the export. */
  readonly from?: string | undefined
  readonly to?: string | undefined
  /** Told how far the ledger was read, in steps, and of how many. */
  readonly onProgress?: Reading['onProgress']
}

/** Compares a provider's usage export with a store's ledger; undefined where the store knows no such provider. */
export async function readReconciliation(
  store: Store,
  now: number,
  { provider, usage, mode, zone: wanted, tax = 0, from, to, onProgress }: ReconciliationWanted,
): Promise<Reconciliation | undefined> {
  const { facts } = await readFacts(store)
  if (!facts.some((one) => one.provider === provider)) return undefined
  const known = factsInForce(facts)
  const plan = known.plan(provider, now)
  const zone = wanted ?? plan?.zone ?? 'UTC'
  const { rows: all } = await readRows(
    { store, clock: systemClock, onProgress },
    { since: 0, until: Number.MAX_SAFE_INTEGER, cuts: [], finest: 'hour' },
  )
  const rows = all.filter((row) => row.provider === provider && (mode === undefined || row.mode === mode))
  const begins = usage.map((line) => dayStart(line.from, zone))
  const ends = usage.map((line) => dayStart(line.to, zone) + 1)
  const time = {
    zone,
    since: Math.max(Math.min(now, ...begins), Math.min(now, known.since(provider))),
    until: Math.min(now, Math.max(0, ...ends)),
  }
  const net = dailyCharges(known, provider, rows, time)
  const charges = new Map(
    [...net].map(([day, amount]) => [
      day,
      new Big(amount)
        .times(100 + tax)
        .div(100)
        .toFixed(),
    ]),
  )
  return reconcile({ provider, usage, rows, plan: plan ?? {}, zone, charges, from, to })
}

function dayStart(day: string, zone: string): number {
  return Temporal.PlainDate.from(day).toZonedDateTime(zone).epochMilliseconds
}
