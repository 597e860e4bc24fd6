import { Turns } from '../../core/in-pieces.js'
import { coarsened } from '../../core/ledger/coarsen.js'
import { factsInForce } from '../../core/ledger/facts-in-force.js'
import {
  type BillingFacts,
  finerThan,
  type Grain,
  type LedgerAccount,
  type LedgerRow,
  placeOfRow,
  plainRow,
} from '../../core/ledger/ledger-row.js'
import { openCalls, overLimits, settledMs } from '../../core/ledger/over-limit.js'
import { readableRow } from '../../core/ledger/readable-row.js'
import { settledUntil } from '../../core/ledger/settled-until.js'
import type { Clock } from '../../core/ports/clock.js'
import type { LedgerSpan } from '../../core/ports/ledger-store.js'
import type { Store } from '../../core/ports/store.js'
import { readFacts } from './read-rows.js'

/** How long the ledger keeps its details, milliseconds, and the time zone whose days reports distinguish besides those of plans. */
export interface LedgerKeeping {
  readonly minutesForMs: number
  readonly hoursForMs: number
  readonly zone: string | undefined
}

const hourMs = 3_600_000
const dayMs = 24 * hourMs

/** Works on a ledger; `isOver`, once nothing more is to be done. */
export interface Upkeep {
  readonly store: Store
  /** Those of the store. */
  readonly accounts: readonly LedgerAccount[]
  readonly clock: Pick<Clock, 'later' | 'ticks'>
  readonly now: number
  readonly isOver: () => boolean
}

/**
 * Puts minutes of the ledger together into hours once these are over, hours into days and days into months, and drops details that are older than they are
 * kept: account by account, so that calls can come between.
 */
export async function keepLedgerSmall(upkeep: Upkeep, { minutesForMs, hoursForMs, zone }: LedgerKeeping): Promise<void> {
  const { store, accounts: all, clock, now, isOver } = upkeep
  const { facts } = await readFacts(store)
  const turns = new Turns(clock)
  const byProvider = new Map<string, LedgerAccount[]>()
  await turns.next()
  for (const account of all) {
    const its = byProvider.get(account.provider)
    if (its) its.push(account)
    else byProvider.set(account.provider, [account])
  }
  for (const accounts of byProvider.values())
    for (const [grain, unitMs] of [
      ['hour', hourMs],
      ['day', dayMs],
      ['month', 30 * dayMs],
    ] as const) {
      const until = settledUntil(now, unitMs)
      const slices = { store, turns, isOver, accounts, facts, zone, grain, unitMs, until }
      while (!isOver() && (await coarsenOldest(slices)));
    }
  // whole hours and days are dropped, with some to spare: where zones cut them elsewhere, details are read only when they are complete
  const dropDetails = async (grain: Grain, until: number) => {
    const span = { since: Number.NEGATIVE_INFINITY, until, grain, details: true }
    for (const of of all) {
      while (!isOver() && (await store.ledger.drop({ ...span, of }))) await turns.next()
      await turns.next()
    }
  }
  await dropDetails('minute', Math.floor((now - minutesForMs) / hourMs) * hourMs - hourMs)
  await dropDetails('hour', Math.floor((now - Math.max(minutesForMs, hoursForMs)) / dayMs) * dayMs - dayMs)
}

interface Slices {
  readonly store: Store
  readonly turns: Turns
  readonly isOver: () => boolean
  /** Those of one provider. */
  readonly accounts: readonly LedgerAccount[]
  readonly facts: readonly BillingFacts[]
  readonly zone: string | undefined
  readonly grain: Exclude<Grain, 'minute'>
  readonly unitMs: number
  readonly until: number
}

/** Puts a provider's rows of the next finer grain together that lie in the same slice as the oldest of them. Returns whether any were. */
async function coarsenOldest({ store: { ledger }, turns, isOver, accounts, facts, zone, grain, unitMs, until }: Slices): Promise<boolean> {
  const finer = finerThan[grain]
  const oldest: number[] = []
  for (const of of accounts) {
    const [row] = await ledger.read({ since: Number.NEGATIVE_INFINITY, until, grain: finer, most: 1, of })
    if (row) oldest.push(row.bucket)
    await turns.next()
  }
  if (oldest.length === 0) return false
  const start = Math.floor(Math.min(...oldest) / unitMs) * unitMs
  const slice = { since: start, until: start + unitMs, grain: finer }
  const over = await overIn({ store: { ledger }, turns, accounts, facts, grain }, slice)
  let isDone = false
  for (const of of accounts) {
    if (isOver()) return false
    const rows = await ledger.read({ ...slice, of })
    if (rows.length === 0) continue
    const coarse = coarsened(
      rows.flatMap((row) => readableRow(row) ?? []),
      grain,
      facts,
      zone,
      (row) => over.get(placeOfRow(row)) ?? 0,
    )
    if (await ledger.replace(rows, coarse.map(plainRow))) isDone = true // else another process came first
    await turns.next()
  }
  return isDone
}

/** Calls of a provider's rows that its limits would have refused, by the places of the rows. */
async function overIn(
  {
    store: { ledger },
    turns,
    accounts,
    facts,
    grain,
  }: Pick<Slices, 'turns' | 'accounts' | 'facts' | 'grain'> & { store: Pick<Store, 'ledger'> },
  slice: LedgerSpan,
): Promise<ReadonlyMap<string, number>> {
  const known = factsInForce(facts)
  const found = new Map<string, number>()
  if (!known.anyLimits) return found
  const rows: OpenRow[] = []
  for (const of of accounts) {
    for (const one of await ledger.read({ ...slice, of })) {
      const row = readableRow(one)
      if (row) rows.push({ ...one, tally: undefined, open: openCalls(row) })
    }
    await turns.next()
  }
  const steps = overLimits(rows, known, ({ open }: OpenRow) => open, settledMs[grain])
  for (;;) {
    const step = steps.next()
    if (step.done) {
      for (const [row, calls] of step.value) found.set(placeOfRow(row), calls)
      return found
    }
    await turns.next()
  }
}

/** A row, less its tally but for the calls that limits may have refused. */
type OpenRow = Omit<LedgerRow, 'tally'> & { readonly tally: undefined; readonly open: number }
