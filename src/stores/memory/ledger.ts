import { isKnown } from '../../core/ledger/facts-in-force.js'
import { accountName, type BillingFacts, type LedgerAccount, type LedgerRow, placeOfRow } from '../../core/ledger/ledger-row.js'
import { sumTallies } from '../../core/ledger/sum-tallies.js'
import type { TallyData } from '../../core/ledger/tally-data.js'
import type { LedgerBatch, LedgerSpan, LedgerStore } from '../../core/ports/ledger-store.js'

/** With tallies as JSON text, which takes a tenth of the room. */
interface KeptRow extends Omit<LedgerRow, 'tally'> {
  readonly tally: string
}

/** Rows dropped at once, at the most. */
const pieceOf = 2_000

export class MemoryLedger implements LedgerStore {
  /** By account, and by place. */
  readonly #accounts = new Map<string, Map<string, KeptRow>>()
  readonly #facts: BillingFacts[] = []
  /** Of each writer the number of its latest batch: stores that answer later may be made of this one. */
  readonly #batches = new Map<string, number>()

  add(rows: readonly LedgerRow[], batch?: LedgerBatch): void {
    if (batch) {
      if (batch.number <= (this.#batches.get(batch.writer) ?? 0)) return
      this.#batches.set(batch.writer, batch.number)
    }
    for (const row of rows) {
      const place = placeOfRow(row)
      const its = this.#rowsOf(row)
      const known = its.get(place)
      const sum = known ? sumTallies(JSON.parse(known.tally) as TallyData, row.tally) : row.tally
      its.set(place, { ...row, tally: JSON.stringify(sum) })
    }
  }

  accounts(): LedgerAccount[] {
    return [...this.#accounts.values()].flatMap((rows) => {
      for (const { mode, provider, endpoint } of rows.values()) return [{ mode, provider, endpoint }]
      return []
    })
  }

  read(span: LedgerSpan): LedgerRow[] {
    const rows = [...this.#in(span)]
    const wanted = span.most === undefined ? rows : rows.sort((a, b) => a.bucket - b.bucket).slice(0, span.most)
    return wanted.map((row) => ({ ...row, tally: JSON.parse(row.tally) as TallyData }))
  }

  replace(olds: readonly LedgerRow[], news: readonly LedgerRow[]): boolean {
    if (olds.some((row) => this.#rowsOf(row).get(placeOfRow(row))?.tally !== JSON.stringify(row.tally))) return false
    for (const row of olds) this.#rowsOf(row).delete(placeOfRow(row))
    this.add(news)
    return true
  }

  drop(span: LedgerSpan): boolean {
    let left = pieceOf
    for (const row of this.#in(span)) {
      if (left-- === 0) return true
      this.#rowsOf(row).delete(placeOfRow(row))
    }
    return false
  }

  addFacts(facts: BillingFacts): void {
    if (!isKnown(this.#facts, facts)) this.#facts.push(facts)
  }

  facts(): BillingFacts[] {
    return [...this.#facts]
  }

  #rowsOf(account: LedgerAccount): Map<string, KeptRow> {
    const name = accountName(account)
    let rows = this.#accounts.get(name)
    if (!rows) {
      rows = new Map()
      this.#accounts.set(name, rows)
    }
    return rows
  }

  *#in({ since, until, grain, details = false, of }: LedgerSpan): Iterable<KeptRow> {
    for (const rows of of ? [this.#accounts.get(accountName(of)) ?? noRows] : this.#accounts.values())
      for (const row of rows.values()) {
        const isIn = row.bucket >= since && row.bucket < until && (row.isDetail ?? false) === details
        if (isIn && (grain === undefined || row.grain === grain)) yield row
      }
  }
}

const noRows: ReadonlyMap<string, KeptRow> = new Map()
