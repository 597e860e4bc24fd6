import { isKnown } from '../../core/ledger/facts-in-force.js'
import { type BillingFacts, type LedgerAccount, type LedgerRow, placeOfRow } from '../../core/ledger/ledger-row.js'
import { sumTallies } from '../../core/ledger/sum-tallies.js'
import type { LedgerBatch, LedgerSpan, LedgerStore } from '../../core/ports/ledger-store.js'
import type { Database, Transaction } from './database.js'

/** Rows dropped in one piece, at the most. */
const pieceOf = 500

export class IndexedDbLedger implements LedgerStore {
  readonly #database: Database
  readonly addLast: NonNullable<LedgerStore['addLast']>

  constructor(database: Database, addLast: NonNullable<LedgerStore['addLast']>) {
    this.#database = database
    this.addLast = addLast
  }

  add(rows: readonly LedgerRow[], batch?: LedgerBatch): Promise<void> {
    return this.#database.run(['rows', 'writers'], 'readwrite', async (transaction) => {
      const writers = transaction.objectStore('writers')
      if (batch && batch.number <= ((await writers.get(batch.writer)) ?? 0)) return
      if (batch) await writers.put(batch.number, batch.writer)
      await add(transaction, rows)
    })
  }

  accounts(): Promise<LedgerAccount[]> {
    return this.#database.run(['rows'], 'readonly', async (transaction) => {
      const accounts: LedgerAccount[] = []
      const index = transaction.objectStore('rows').index('account')
      for (let cursor = await index.openKeyCursor(null, 'nextunique'); cursor; cursor = await cursor.continue()) {
        const [mode, provider, endpoint] = cursor.key as [LedgerAccount['mode'], string, string]
        accounts.push({ mode, provider, endpoint })
      }
      return accounts
    })
  }

  read(span: LedgerSpan): Promise<LedgerRow[]> {
    return this.#database.run(['rows'], 'readonly', async (transaction) => {
      const range = rangeOf(span)
      const rows = range === undefined ? [] : await transaction.objectStore('rows').index('bucket').getAll(range)
      const meant = rows.filter((row) => isIn(span, row))
      return span.most === undefined ? meant : meant.slice(0, span.most)
    })
  }

  replace(olds: readonly LedgerRow[], news: readonly LedgerRow[]): Promise<boolean> {
    return this.#database.run(['rows'], 'readwrite', async (transaction) => {
      const rows = transaction.objectStore('rows')
      for (const old of olds) {
        const kept = await rows.get(placeOfRow(old))
        if (JSON.stringify(kept?.tally) !== JSON.stringify(old.tally)) return false
      }
      for (const old of olds) await rows.delete(placeOfRow(old))
      await add(transaction, news)
      return true
    })
  }

  drop(span: LedgerSpan): Promise<boolean> {
    return this.#database.run(['rows'], 'readwrite', async (transaction) => {
      const range = rangeOf(span)
      if (range === undefined) return false
      let dropped = 0
      const index = transaction.objectStore('rows').index('bucket')
      for (let cursor = await index.openCursor(range); cursor; cursor = await cursor.continue()) {
        if (!isIn(span, cursor.value)) continue
        if (dropped >= pieceOf) return true
        await cursor.delete()
        dropped++
      }
      return false
    })
  }

  addFacts(facts: BillingFacts): Promise<void> {
    return this.#database.run(['facts'], 'readwrite', async (transaction) => {
      const kept = transaction.objectStore('facts')
      if (!isKnown(inOrder(await kept.getAll()), facts)) await kept.add(facts)
    })
  }

  async facts(): Promise<BillingFacts[]> {
    return inOrder(await this.#database.run(['facts'], 'readonly', (transaction) => transaction.objectStore('facts').getAll()))
  }
}

async function add(transaction: Transaction<'readwrite'>, rows: readonly LedgerRow[]): Promise<void> {
  const kept = transaction.objectStore('rows')
  for (const row of rows) {
    const place = placeOfRow(row)
    const before = await kept.get(place)
    await kept.put({ ...row, tally: before ? sumTallies(before.tally, row.tally) : row.tally }, place)
  }
}

/** Undefined where nothing can be in it. */
function rangeOf({ since, until }: LedgerSpan): IDBKeyRange | undefined {
  return since < until ? IDBKeyRange.bound(since, until, false, true) : undefined
}

function isIn({ grain, details = false, of }: LedgerSpan, row: LedgerRow): boolean {
  return (
    (row.isDetail ?? false) === details &&
    (grain === undefined || row.grain === grain) &&
    (of === undefined || (row.mode === of.mode && row.provider === of.provider && row.endpoint === of.endpoint))
  )
}

function inOrder(facts: BillingFacts[]): BillingFacts[] {
  return facts.sort((one, other) => one.since - other.since)
}
