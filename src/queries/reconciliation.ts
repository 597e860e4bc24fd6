import { dailyCharges } from '../core/ledger/daily-charges.js'
import { factsInForce } from '../core/ledger/facts-in-force.js'
import type { LedgerMode } from '../core/ledger/ledger-row.js'
import { type Reconciliation, reconcile, type UsageOfDay } from '../core/ledger/reconcile.js'
import type { Store } from '../core/ports/store.js'
import { readFacts, readRows } from '../engine/ledger/read-rows.js'

export interface ReconciliationWanted {
  readonly provider: string
  readonly usage: readonly UsageOfDay[]
  /** Only calls made in this mode count; undefined: all. */
  readonly mode?: LedgerMode | undefined
  /** IANA time zone of the days of the export; undefined: that of the plan, else UTC. */
  readonly zone?: string | undefined
  /** The first and last day to compare; undefined: those of the export. */
  readonly from?: string | undefined
  readonly to?: string | undefined
}

/** Compares a provider's usage export with a store's ledger; undefined where the store knows no such provider. */
export async function readReconciliation(
  store: Store,
  now: number,
  { provider, usage, mode, zone: wanted, from, to }: ReconciliationWanted,
): Promise<Reconciliation | undefined> {
  const { facts } = await readFacts(store)
  if (!facts.some((one) => one.provider === provider)) return undefined
  const known = factsInForce(facts)
  const plan = known.plan(provider, now)
  const zone = wanted ?? plan?.zone ?? 'UTC'
  const { rows: all } = await readRows(store, { since: 0, until: Number.MAX_SAFE_INTEGER, cuts: [], finest: 'hour' })
  const rows = all.filter((row) => row.provider === provider && (mode === undefined || row.mode === mode))
  return reconcile({ provider, usage, rows, plan: plan ?? {}, zone, charges: dailyCharges(known, provider, rows, zone), from, to })
}
