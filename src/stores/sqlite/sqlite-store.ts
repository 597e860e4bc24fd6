import type { StoredTimes } from '../../core/decide/entry-times.js'
import { newestLike, sameFacts } from '../../core/ledger/facts-in-force.js'
import { type BillingFacts, type Grain, grains, type LedgerMode, type LedgerRow } from '../../core/ledger/ledger-row.js'
import { type StoredTally, Tally } from '../../core/ledger/tally.js'
import type { Entry, EntryGroup, LedgerSlice, Opening, SharedRecord, Store } from '../../core/ports/store.js'
import { type Row, type SqliteDriver, transactions } from './driver.js'
import { openFile } from './open-file.js'
import { identityOf, setAside } from './set-aside.js'

export interface SqliteStoreOptions {
  /** Only reads: the file must be a store already, and nothing in it is changed. Default false. */
  readonly readOnly?: boolean
}

/** A store in one SQLite file, which several processes of one machine may use at once. Made when it does not exist. */
export function sqliteStore(file: string, { readOnly = false }: SqliteStoreOptions = {}): Store {
  return new SqliteStore(file, readOnly)
}

class SqliteStore implements Store {
  readonly #file: string
  readonly #readOnly: boolean
  #opening!: Opening
  #identity: string | undefined
  /** Facts that this process added: a file begun anew has to know them too. */
  readonly #added = new Set<BillingFacts>()
  #driver!: SqliteDriver
  #inTransaction!: ReturnType<typeof transactions>
  #statements!: ReturnType<typeof statementsOf>

  constructor(file: string, readOnly: boolean) {
    this.#file = file
    this.#readOnly = readOnly
  }

  open(opening: Opening): void {
    this.#opening = opening
    this.#driver = openFile(this.#file, opening, this.#readOnly)
    this.#inTransaction = transactions(this.#driver)
    this.#statements = statementsOf(this.#driver)
    this.#identity = identityOf(this.#file)
  }

  /** Does work on the file; where it turns out to be corrupt, that is set aside, and the work done on a new one. */
  #do<T>(work: () => T): T {
    try {
      return work()
    } catch (error) {
      return this.#again(error, work)
    }
  }

  #again<T>(error: unknown, work: () => T): T {
    const trouble = this.#driver.troubleOf(error)
    if (this.#readOnly || (trouble !== 'corrupt' && trouble !== 'not-a-database')) throw error
    this.#beginAnew()
    return work()
  }

  /** Another process on the same file may have set it aside already. */
  #beginAnew(): void {
    try {
      this.#driver.close()
    } catch {
      // it cannot be closed any better
    }
    const { now, warn } = this.#opening
    if (identityOf(this.#file) === this.#identity) setAside(this.#file, Math.max(now, Date.now()), warn)
    this.open(this.#opening)
    for (const facts of this.#added) this.addFacts(facts)
  }

  get(key: string): Entry | undefined {
    let row: Row | undefined
    try {
      row = this.#statements.getEntry.get(key)
    } catch (error) {
      row = this.#again(error, () => this.#statements.getEntry.get(key))
    }
    return row && entryOf(key, row)
  }

  put(entry: Entry): void {
    const { key, provider, endpoint, head, body } = entry
    this.#do(() =>
      this.#statements.putEntry.run(key, provider, endpoint, head, body, entry.storedAt, ...laterTimes(entry), unitsText(entry)),
    )
  }

  updateTimes(key: string, times: StoredTimes): void {
    this.#do(() => this.#statements.updateTimes.run(...laterTimes(times), key, times.storedAt))
  }

  invalidate(prefix: string, now: number): void {
    this.#do(() => this.#statements.invalidate.run(now, now, now, prefix, `${prefix} `, `${prefix}!`, prefix))
  }

  remove(key: string): void {
    this.#do(() => this.#statements.remove.run(key))
  }

  trim(group: EntryGroup, most: number): number {
    return this.#do(() => {
      const { trimVariants, trimEndpoint } = this.#statements
      if (!('variantsOf' in group)) return trimEndpoint.run(group.provider, group.endpoint, most)
      return trimVariants.run(`${group.variantsOf} `, `${group.variantsOf}!`, most)
    })
  }

  update(name: string, now: number, change: (value: string | undefined) => SharedRecord | undefined): void {
    this.#do(() =>
      this.#inTransaction(() => {
        const kept = this.#statements.getRecord.get(name, now)
        const next = change(kept && String(kept.value))
        if (next) this.#statements.putRecord.run(name, next.value, next.keepUntil)
      }),
    )
  }

  records(prefix: string, now: number): ReadonlyMap<string, string> {
    const rows = this.#do(() => this.#statements.records.all(prefix, prefix, prefix, now))
    return new Map(rows.map(({ name, value }) => [String(name), String(value)]))
  }

  sweep(now: number): number {
    return this.#do(() => {
      this.#statements.dropRecords.run(now)
      return this.#statements.dropDead.run(now)
    })
  }

  addToLedger(rows: readonly LedgerRow[]): void {
    this.#do(() => this.#inTransaction(() => this.#add(rows)))
  }

  #add(rows: readonly LedgerRow[]): void {
    const { getTally, putTally } = this.#statements
    for (const { bucket, grain, isDetail, lengthMs, mode, provider, endpoint, tally } of rows) {
      const place = [isDetail ? 1 : 0, grains.indexOf(grain), bucket, mode, provider, endpoint]
      const before = getTally.get(...place)
      const sum = before ? Tally.from(JSON.parse(String(before.tally)) as StoredTally) : new Tally()
      sum.merge(tally)
      putTally.run(...place, lengthMs, JSON.stringify(sum))
    }
  }

  coarsenLedger(until: number, grain: Grain, slice: LedgerSlice, change: (rows: LedgerRow[]) => readonly LedgerRow[]): boolean {
    const finer = grains.indexOf(grain) - 1
    return this.#do(() =>
      this.#inTransaction(() => {
        const { oldestFiner, readFiner, dropFiner } = this.#statements
        const oldest = oldestFiner.get(finer, until)?.bucket
        if (typeof oldest !== 'number') return false
        const { start, end } = slice(oldest)
        const coarse = change(readFiner.all(finer, start, end).flatMap(rowsOf))
        dropFiner.run(finer, start, end)
        this.#add(coarse)
        return true
      }),
    )
  }

  readLedger(since: number, until: number): LedgerRow[] {
    return this.#do(() => this.#statements.readLedger.all(since, until)).flatMap(rowsOf)
  }

  readDetails(grain: Grain, since: number, until: number): LedgerRow[] {
    return this.#do(() => this.#statements.readDetails.all(grains.indexOf(grain), since, until)).flatMap(rowsOf)
  }

  dropDetails(grain: Grain, until: number): void {
    this.#do(() => this.#statements.dropDetails.run(grains.indexOf(grain), until))
  }

  addFacts(facts: BillingFacts): void {
    this.#added.add(facts)
    this.#do(() =>
      this.#inTransaction(() => {
        const known = this.#statements.readFacts.all().map(({ facts: json }) => JSON.parse(String(json)) as BillingFacts)
        const newest = newestLike(known, facts)
        if (newest && sameFacts(newest, facts)) return
        this.#statements.addFacts.run(facts.since, JSON.stringify(facts))
      }),
    )
  }

  readFacts(): BillingFacts[] {
    return this.#do(() => this.#statements.readFacts.all()).map((row) => JSON.parse(String(row.facts)) as BillingFacts)
  }

  size() {
    const { entries, bytes } = this.#do(() => this.#statements.size.get()) as Row
    return { entries: Number(entries), bytes: Number(bytes) }
  }

  /** Leaves everything in the one file, so that it can be copied or moved. */
  close(): void {
    if (!this.#readOnly) this.#driver.exec('PRAGMA wal_checkpoint(TRUNCATE)')
    this.#driver.close()
  }
}

/** Every statement of the store, prepared once. */
function statementsOf(driver: SqliteDriver) {
  return {
    getEntry: driver.prepare(`SELECT provider, endpoint, head, body, stored_at, ${timeColumns.join(', ')}, units FROM entry WHERE key = ?`),
    putEntry: driver.prepare(
      `INSERT OR REPLACE INTO entry (key, provider, endpoint, head, body, stored_at, ${timeColumns.join(', ')}, units) VALUES (${'?, '.repeat(12)}?)`,
    ),
    updateTimes: driver.prepare(`UPDATE entry SET ${timeColumns.map((name) => `${name} = ?`).join(', ')} WHERE key = ? AND stored_at = ?`),
    invalidate: driver.prepare(
      `UPDATE entry SET fresh_until = min(fresh_until, ?), refreshable_until = min(refreshable_until, ?),
        usable_until = min(usable_until, ?), must_revalidate = 1 WHERE key = ? OR (key > ? AND key < ?) OR ? = ''`, // "!" comes right after the space
    ),
    remove: driver.prepare('DELETE FROM entry WHERE key = ?'),
    trimVariants: driver.prepare(trimming('key > ? AND key < ?')),
    trimEndpoint: driver.prepare(trimming('provider = ? AND endpoint = ?')),
    getRecord: driver.prepare('SELECT value FROM shared_record WHERE name = ? AND keep_until > ?'),
    putRecord: driver.prepare('INSERT OR REPLACE INTO shared_record (name, value, keep_until) VALUES (?, ?, ?)'),
    records: driver.prepare('SELECT name, value FROM shared_record WHERE name >= ? AND substr(name, 1, length(?)) = ? AND keep_until > ?'),
    dropRecords: driver.prepare('DELETE FROM shared_record WHERE keep_until <= ?'),
    dropDead: driver.prepare('DELETE FROM entry WHERE keep_until <= ?'),
    getTally: driver.prepare(
      'SELECT tally FROM ledger WHERE detail = ? AND grain = ? AND bucket = ? AND mode = ? AND provider = ? AND endpoint = ?',
    ),
    putTally: driver.prepare(
      'INSERT OR REPLACE INTO ledger (detail, grain, bucket, mode, provider, endpoint, length, tally) VALUES (?, ?, ?, ?, ?, ?, ?, ?)',
    ),
    readLedger: driver.prepare(`${readRows} WHERE detail = 0 AND grain IN (0, 1, 2, 3) AND bucket >= ? AND bucket < ? ${rowsByDay}`),
    readDetails: driver.prepare(`${readRows} WHERE detail = 1 AND grain = ? AND bucket >= ? AND bucket < ? ${rowsByDay}`),
    dropDetails: driver.prepare('DELETE FROM ledger WHERE detail = 1 AND grain = ? AND bucket < ?'),
    oldestFiner: driver.prepare('SELECT min(bucket) AS bucket FROM ledger WHERE detail = 0 AND grain = ? AND bucket < ?'),
    readFiner: driver.prepare(`${readRows} WHERE detail = 0 AND grain = ? AND bucket >= ? AND bucket < ? ${rowsByDay}`),
    dropFiner: driver.prepare('DELETE FROM ledger WHERE detail = 0 AND grain = ? AND bucket >= ? AND bucket < ?'),
    size: driver.prepare(
      'SELECT (SELECT count(*) FROM entry) AS entries, (SELECT page_count FROM pragma_page_count) * (SELECT page_size FROM pragma_page_size) AS bytes',
    ),
    addFacts: driver.prepare('INSERT INTO facts (since, facts) VALUES (?, ?)'),
    readFacts: driver.prepare('SELECT facts FROM facts ORDER BY since, rowid'),
  }
}

/** Reads rows of the ledger a day as one text, elements of a JSON array: each row that the library hands over costs much, and a year has many. */
const readRows = `SELECT group_concat('[' || bucket || ',' || grain || ',' || detail || ',' || length || ',' || json_quote(mode) || ',' ||
  json_quote(provider) || ',' || json_quote(endpoint) || ',' || tally || ']') AS rows FROM ledger`
const rowsByDay = 'GROUP BY grain, bucket / 86400000'

function rowsOf({ rows: text }: Row): LedgerRow[] {
  const rows = JSON.parse(`[${text}]`) as [number, number, number, number, LedgerMode, string, string, StoredTally][]
  return rows.map(([bucket, grain, detail, lengthMs, mode, provider, endpoint, tally]) => ({
    ...{ bucket, grain: grains[grain] as Grain, lengthMs, isDetail: detail === 1, mode, provider, endpoint },
    tally: Tally.from(tally),
  }))
}

function trimming(condition: string): string {
  return `DELETE FROM entry WHERE key IN (SELECT key FROM entry WHERE ${condition} ORDER BY stored_at DESC LIMIT -1 OFFSET ?)`
}

const timeColumns = ['born_at', 'fresh_until', 'refreshable_until', 'usable_until', 'keep_until', 'must_revalidate']

/** The times that go into the columns of `timeColumns`. */
function laterTimes({ bornAt, freshUntil, refreshableUntil, usableUntil, keepUntil, mustRevalidate }: StoredTimes): number[] {
  return [bornAt, freshUntil, refreshableUntil, usableUntil, keepUntil, mustRevalidate ? 1 : 0]
}

function unitsText({ units }: Entry): string | null {
  return units === undefined ? null : JSON.stringify(units)
}

function entryOf(key: string, row: Row): Entry {
  return {
    key,
    provider: row.provider as string,
    endpoint: row.endpoint as string,
    head: row.head as string,
    body: row.body as Uint8Array,
    storedAt: row.stored_at as number,
    bornAt: row.born_at as number,
    freshUntil: row.fresh_until as number,
    refreshableUntil: row.refreshable_until as number,
    usableUntil: row.usable_until as number,
    keepUntil: row.keep_until as number,
    mustRevalidate: row.must_revalidate === 1,
    units: row.units === null ? undefined : (JSON.parse(row.units as string) as Entry['units']),
  }
}
