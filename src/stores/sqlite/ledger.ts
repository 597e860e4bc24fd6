import { isKnown } from '../../core/ledger/facts-in-force.js'
import { type BillingFacts, type Grain, grains, type LedgerAccount, type LedgerRow, placeOfRow } from '../../core/ledger/ledger-row.js'
import { sumTallies } from '../../core/ledger/sum-tallies.js'
import type { TallyData } from '../../core/ledger/tally-data.js'
import type { LedgerSpan, LedgerStore } from '../../core/ports/ledger-store.js'
import type { SqliteFile } from './sqlite-file.js'

export class SqliteLedger implements LedgerStore {
  readonly #file: SqliteFile
  /** Facts that this process added: a file that is recreated has to know them too. */
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

  /** One after the other, which costs by how many there are, not by their rows. */
  accounts(): LedgerAccount[] {
    return this.#file.do(() => {
      const all: LedgerAccount[] = []
      for (const mode of this.#namesOf('mode', []))
        for (const provider of this.#namesOf('provider', [mode]))
          for (const endpoint of this.#namesOf('endpoint', [mode, provider])) all.push({ mode, provider, endpoint } as LedgerAccount)
      return all
    })
  }

  /** The names in a column of the rows that have some names before it; of a foreign file they may be no texts, which come after all texts. */
  *#namesOf(column: 'mode' | 'provider' | 'endpoint', before: readonly string[]): Iterable<string> {
    const fixed = ['mode = ? AND ', 'provider = ? AND '].slice(0, before.length).join('')
    const sql = `SELECT ${column} AS name FROM ledger WHERE ? AND ${fixed}${column} > ? ORDER BY ${column} LIMIT 1`
    const after = (last: string) => this.#file.statement(sql).get(1, ...before, last)?.name as string | undefined
    for (let name = after(''); name !== undefined; name = after(name)) yield name
  }

  read(span: LedgerSpan): LedgerRow[] {
    const accounts = span.of ? [span.of] : this.accounts()
    const rows = this.#file.do(() => accounts.flatMap((account) => this.#readOf(account, span)))
    return span.most === undefined ? rows : rows.sort((a, b) => a.bucket - b.bucket).slice(0, span.most)
  }

  #readOf(account: LedgerAccount, span: LedgerSpan): LedgerRow[] {
    const { where, values } = conditionOf(account, span)
    const limit = span.most === undefined ? '' : `ORDER BY bucket LIMIT ${Math.floor(span.most)}`
    const sql = `SELECT ${rowsAsText} AS rows FROM (SELECT bucket, grain, length, tally FROM ledger WHERE ${where} ${limit})`
    const text = this.#file.statement(sql).get(...values)?.rows as string | null
    try {
      return text === null ? [] : rowsOf(account, span, text)
    } catch (error) {
      if (!(error instanceof SyntaxError)) throw error
      return this.#readEach(account, span, where, values, limit) // one of them holds what is no JSON
    }
  }

  /** Row by row; the tally of one that is no JSON is what stands there. */
  #readEach(account: LedgerAccount, span: LedgerSpan, where: string, values: (string | number)[], limit: string): LedgerRow[] {
    const rows = this.#file.statement(`SELECT bucket, grain, length, tally FROM ledger WHERE ${where} ${limit}`).all(...values)
    return rows.map(({ bucket, grain, length, tally }) => {
      const place = { bucket, grain: grains[grain as number], lengthMs: length, isDetail: span.details === true }
      return { ...account, ...place, tally: jsonOr(tally) } as unknown as LedgerRow
    })
  }

  replace(olds: readonly LedgerRow[], news: readonly LedgerRow[]): boolean {
    return this.#file.inTransaction(() => {
      const texts = new Map(olds.map((row) => [placeOfRow(row), textOf(row.tally)]))
      if (olds.some((row) => this.#tallyText(row) !== texts.get(placeOfRow(row)))) return false
      const others: LedgerRow[] = []
      for (const row of news) {
        const old = { ...row, isDetail: false }
        const place = placeOfRow(old)
        if (!row.isDetail || texts.get(place) !== JSON.stringify(row.tally) || !this.#becomesDetail(old)) others.push(row)
        else texts.delete(place)
      }
      for (const row of olds)
        if (texts.has(placeOfRow(row))) this.#file.statement(`DELETE FROM ledger WHERE ${samePlace}`).run(...placeIn(row))
      this.#add(others)
      return true
    })
  }

  /** Has a row stay as a detail; false where a detail is in its place already. */
  #becomesDetail(row: LedgerRow): boolean {
    return this.#file.statement(`UPDATE OR IGNORE ledger SET detail = 1 WHERE ${samePlace}`).run(...placeIn(row)) === 1
  }

  drop(span: LedgerSpan): boolean {
    let left = droppedAtOnce
    for (const account of span.of ? [span.of] : this.accounts()) {
      const { where, values } = conditionOf(account, span)
      const sql = `DELETE FROM ledger WHERE (${key}) IN (SELECT ${key} FROM ledger WHERE ${where} LIMIT ?)`
      left -= this.#file.do(() => this.#file.statement(sql).run(...values, left))
      if (left <= 0) return true
    }
    return false
  }

  addFacts(facts: BillingFacts): void {
    this.#added.add(facts)
    this.#file.inTransaction(() => {
      if (isKnown(this.#facts(), facts)) return
      this.#file.statement('INSERT INTO facts (since, facts) VALUES (?, ?)').run(facts.since, JSON.stringify(facts))
    })
  }

  /** Into a file that was recreated. */
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

function placeIn({ isDetail, grain, bucket, mode, provider, endpoint }: Omit<LedgerRow, 'tally' | 'lengthMs'>): (string | number)[] {
  return [isDetail ? 1 : 0, grains.indexOf(grain), bucket, mode, provider, endpoint]
}

/** Rows dropped in one piece, at the most. */
const droppedAtOnce = 200

const key = 'mode, provider, endpoint, detail, grain, bucket'

function conditionOf(
  { mode, provider, endpoint }: LedgerAccount,
  { since, until, grain, details = false }: LedgerSpan,
): { where: string; values: (string | number)[] } {
  const wanted = grain === undefined ? 'grain IN (0, 1, 2, 3)' : 'grain = ?'
  return {
    where: `mode = ? AND provider = ? AND endpoint = ? AND detail = ? AND ${wanted} AND bucket >= ? AND bucket < ?`,
    values: [
      ...[mode, provider, endpoint, details ? 1 : 0],
      ...(grain === undefined ? [] : [grains.indexOf(grain)]),
      ...[finite(since), finite(until)],
    ],
  }
}

function finite(at: number): number {
  return Math.min(Number.MAX_SAFE_INTEGER, Math.max(Number.MIN_SAFE_INTEGER, at))
}

/** Rows as elements of a JSON array, all as one text: each row that the library hands over costs much, and a year has many. */
const rowsAsText = `group_concat('[' || bucket || ',' || grain || ',' || length || ',' || tally || ']')`

function rowsOf(account: LedgerAccount, { details = false }: LedgerSpan, text: string): LedgerRow[] {
  const rows = JSON.parse(`[${text}]`) as [number, number, number, TallyData][]
  const { mode, provider, endpoint } = account
  return rows.map(([bucket, grain, lengthMs, tally]) => ({
    bucket,
    grain: grains[grain] as Grain,
    lengthMs,
    isDetail: details,
    mode,
    provider,
    endpoint,
    tally,
  }))
}
