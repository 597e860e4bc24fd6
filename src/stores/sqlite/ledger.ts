import { isKnown } from '../../core/ledger/facts-in-force.js'
import { type BillingFacts, type Grain, grains, type LedgerMode, type LedgerRow } from '../../core/ledger/ledger-row.js'
import { sumTallies } from '../../core/ledger/sum-tallies.js'
import type { TallyData } from '../../core/ledger/tally-data.js'
import type { LedgerSpan, LedgerStore } from '../../core/ports/ledger-store.js'
import type { Row } from './driver.js'
import type { SqliteFile } from './sqlite-file.js'

export class SqliteLedger implements LedgerStore {
  readonly #file: SqliteFile
  /** Facts that this process added: a file begun anew has to know them too. */
  readonly #added = new Set<BillingFacts>()

  constructor(file: SqliteFile) {
    this.#file = file
  }

  add(rows: readonly LedgerRow[]): void {
    this.#file.inTransaction(() => this.#add(rows))
  }

  #add(rows: readonly LedgerRow[]): void {
    for (const row of rows) {
      const before = this.#tallyText(row)
      const sum = before === undefined ? row.tally : sumTallies(jsonOr(before) as TallyData, row.tally)
      this.#file
        .statement(
          'INSERT OR REPLACE INTO ledger (detail, grain, bucket, mode, provider, endpoint, length, tally) VALUES (?, ?, ?, ?, ?, ?, ?, ?)',
        )
        .run(...placeIn(row), row.lengthMs, JSON.stringify(sum))
    }
  }

  #tallyText(row: LedgerRow): string | undefined {
    const found = this.#file.statement(`SELECT tally FROM ledger WHERE ${samePlace}`).get(...placeIn(row))
    return found && String(found.tally)
  }

  read(span: LedgerSpan): LedgerRow[] {
    const { where, values } = conditionOf(span)
    const read =
      span.most === undefined
        ? () => this.#file.statement(`SELECT ${rowsAsText('group_concat')} AS rows FROM ledger WHERE ${where} ${byDay}`).all(...values)
        : () =>
            this.#file
              .statement(`SELECT ${rowsAsText('')} AS rows FROM ledger WHERE ${where} ORDER BY bucket LIMIT ?`)
              .all(...values, span.most as number)
    try {
      return this.#file.do(read).flatMap(rowsOf)
    } catch (error) {
      try {
        return this.#readEach(span) // one of them may hold what is no JSON
      } catch {
        throw error
      }
    }
  }

  /** Row by row; the tally of one that is no JSON is what stands there. */
  #readEach(span: LedgerSpan): LedgerRow[] {
    const { where, values } = conditionOf(span)
    const sql = `SELECT bucket, grain, detail, length, mode, provider, endpoint, tally FROM ledger WHERE ${where} ORDER BY bucket LIMIT ?`
    const rows = this.#file.do(() => this.#file.statement(sql).all(...values, span.most ?? -1))
    return rows.map(({ bucket, grain, detail, length, mode, provider, endpoint, tally }) => {
      const place = { bucket, grain: grains[grain as number], lengthMs: length, isDetail: detail === 1, mode, provider, endpoint }
      return { ...place, tally: jsonOr(tally) } as unknown as LedgerRow
    })
  }

  replace(olds: readonly LedgerRow[], news: readonly LedgerRow[]): boolean {
    return this.#file.inTransaction(() => {
      if (olds.some((row) => this.#tallyText(row) !== textOf(row.tally))) return false
      for (const row of olds) this.#file.statement(`DELETE FROM ledger WHERE ${samePlace}`).run(...placeIn(row))
      this.#add(news)
      return true
    })
  }

  drop(span: LedgerSpan): void {
    const { where, values } = conditionOf(span)
    this.#file.do(() => this.#file.statement(`DELETE FROM ledger WHERE ${where}`).run(...values))
  }

  addFacts(facts: BillingFacts): void {
    this.#added.add(facts)
    this.#file.inTransaction(() => {
      if (isKnown(this.#facts(), facts)) return
      this.#file.statement('INSERT INTO facts (since, facts) VALUES (?, ?)').run(facts.since, JSON.stringify(facts))
    })
  }

  /** Into a file that was begun anew. */
  addFactsAgain(): void {
    for (const facts of this.#added) this.addFacts(facts)
  }

  facts(): BillingFacts[] {
    return this.#file.do(() => this.#facts())
  }

  #facts(): BillingFacts[] {
    const rows = this.#file.statement('SELECT facts FROM facts ORDER BY since, rowid').all()
    return rows.map((row) => jsonOr(row.facts) as BillingFacts)
  }
}

/** What is no JSON stands for itself: whoever reads it sees that it is none. */
function jsonOr(text: unknown): unknown {
  try {
    return JSON.parse(String(text))
  } catch {
    return text
  }
}

function textOf(tally: unknown): string {
  return typeof tally === 'string' ? tally : JSON.stringify(tally)
}

const samePlace = 'detail = ? AND grain = ? AND bucket = ? AND mode = ? AND provider = ? AND endpoint = ?'

function placeIn({ isDetail, grain, bucket, mode, provider, endpoint }: LedgerRow): (string | number)[] {
  return [isDetail ? 1 : 0, grains.indexOf(grain), bucket, mode, provider, endpoint]
}

function conditionOf({ since, until, grain, details = false }: LedgerSpan): { where: string; values: number[] } {
  const bounds = [finite(since), finite(until)]
  if (grain === undefined)
    return { where: `detail = ${details ? 1 : 0} AND grain IN (0, 1, 2, 3) AND bucket >= ? AND bucket < ?`, values: bounds }
  return { where: 'detail = ? AND grain = ? AND bucket >= ? AND bucket < ?', values: [details ? 1 : 0, grains.indexOf(grain), ...bounds] }
}

function finite(at: number): number {
  return Math.min(Number.MAX_SAFE_INTEGER, Math.max(Number.MIN_SAFE_INTEGER, at))
}

/** Rows as elements of a JSON array, a day of them as one text: each row that the library hands over costs much, and a year has many. */
function rowsAsText(aggregate: 'group_concat' | ''): string {
  return `${aggregate}('[' || bucket || ',' || grain || ',' || detail || ',' || length || ',' || json_quote(mode) || ',' ||
    json_quote(provider) || ',' || json_quote(endpoint) || ',' || tally || ']')`
}

const byDay = 'GROUP BY grain, bucket / 86400000'

function rowsOf({ rows: text }: Row): LedgerRow[] {
  const rows = JSON.parse(`[${text}]`) as [number, number, number, number, LedgerMode, string, string, TallyData][]
  return rows.map(([bucket, grain, detail, lengthMs, mode, provider, endpoint, tally]) => ({
    ...{ bucket, grain: grains[grain] as Grain, lengthMs, isDetail: detail === 1, mode, provider, endpoint },
    tally,
  }))
}
