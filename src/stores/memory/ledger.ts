import { isKnown } from '../../core/ledger/facts-in-force.js'
import { type BillingFacts, type LedgerRow, placeOfRow } from '../../core/ledger/ledger-row.js'
import { sumTallies } from '../../core/ledger/sum-tallies.js'
import type { TallyData } from '../../core/ledger/tally-data.js'
import type { LedgerSpan, LedgerStore } from '../../core/ports/ledger-store.js'

/** With tallies as JSON text, which takes a tenth of the room. */
interface KeptRow extends Omit<LedgerRow, 'tally'> {
  readonly tally: string
}

export class MemoryLedger implements LedgerStore {
  readonly #rows = new Map<string, KeptRow>()
  readonly #facts: BillingFacts[] = []

  add(rows: readonly LedgerRow[]): void {
    for (const row of rows) {
      const place = placeOfRow(row)
      const known = this.#rows.get(place)
      const sum = known ? sumTallies(JSON.parse(known.tally) as TallyData, row.tally) : row.tally
      this.#rows.set(place, { ...row, tally: JSON.stringify(sum) })
    }
  }

  read(span: LedgerSpan): LedgerRow[] {
    const rows = [...this.#in(span)]
    const wanted = span.most === undefined ? rows : rows.sort((a, b) => a.bucket - b.bucket).slice(0, span.most)
    return wanted.map((row) => ({ ...row, tally: JSON.parse(row.tally) as TallyData }))
  }

  replace(olds: readonly LedgerRow[], news: readonly LedgerRow[]): boolean {
    if (olds.some((row) => this.#rows.get(placeOfRow(row))?.tally !== JSON.stringify(row.tally))) return false
    for (const row of olds) this.#rows.delete(placeOfRow(row))
    this.add(news)
    return true
  }

  drop(span: LedgerSpan): void {
    for (const row of [...this.#in(span)]) this.#rows.delete(placeOfRow(row))
  }

  addFacts(facts: BillingFacts): void {
    if (!isKnown(this.#facts, facts)) this.#facts.push(facts)
  }

  facts(): BillingFacts[] {
    return [...this.#facts]
  }

  *#in({ since, until, grain, details = false }: LedgerSpan): Iterable<KeptRow> {
    for (const row of this.#rows.values()) {
      const isIn = row.bucket >= since && row.bucket < until && (row.isDetail ?? false) === details
      if (isIn && (grain === undefined || row.grain === grain)) yield row
    }
  }
}
