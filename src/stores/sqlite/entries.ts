import type { StoredTimes } from '../../core/decide/entry-times.js'
import type { Claim } from '../../core/ports/claims.js'
import type {
  Dropped,
  Entry,
  EntryPage,
  EntryStore,
  EntrySummary,
  Piece,
  PutResult,
  StoreSize,
  Trimmed,
} from '../../core/ports/entry-store.js'
import { type DroppedEntry, evictedOf } from '../../core/ports/evictions.js'
import type { Selection } from '../../core/ports/selection.js'
import { SqliteClaims } from './claims.js'
import type { Row } from './driver.js'
import { conditionOf, entryOf, getEntry, laterTimes, putEntry, selectEntries, summaryOf, updateTimes } from './entry-rows.js'
import { NearCopies } from './near-copies.js'
import { bytesOf, Room } from './room.js'
import type { SqliteFile } from './sqlite-file.js'

export class SqliteEntries implements EntryStore {
  readonly #file: SqliteFile
  readonly #room: Room
  readonly #copies = new NearCopies(maxCopiesBytes)
  readonly claims: SqliteClaims
  /** Changes with every change of the file by another connection (sqlite.org/pragma.html#pragma_data_version). */
  #version: unknown

  constructor(file: SqliteFile, maxBytes: number) {
    this.#file = file
    this.#room = new Room(file, maxBytes, (key) => this.#copies.drop(key))
    this.claims = new SqliteClaims(file)
  }

  /** Of an entry that was read before, a copy, while nobody has written anything to the file. */
  get(key: string): Entry | undefined {
    const copy = this.#copies.get(key)
    const entry = copy !== undefined && this.#isUnchanged() ? copy : this.#read(key)
    if (entry !== undefined) this.#room.use(entry)
    return entry
  }

  used(entry: Entry): void {
    this.#room.use(entry)
  }

  given(entry: Entry, now: number, isSaving: boolean): void {
    this.#room.given(entry, now, isSaving)
  }

  #read(key: string): Entry | undefined {
    if (this.#version === undefined) this.#isUnchanged()
    let row: readonly unknown[] | undefined
    try {
      row = this.#file.list(getEntry).get(key)
    } catch (error) {
      row = this.#file.again(error, () => this.#file.list(getEntry).get(key))
    }
    if (row === undefined) return undefined
    const entry = entryOf(key, row)
    this.#copies.keep(entry)
    return entry
  }

  /** Whether no other connection has changed the file since it was asked last; where one has, no copy holds any more. */
  #isUnchanged(): boolean {
    const version = this.#file.do(() => this.#file.list('PRAGMA data_version').get()?.[0])
    if (version !== undefined && version === this.#version) return true
    this.#version = version
    this.#copies.clear()
    return false
  }

  /** Another file took the place of the one that was open. */
  begunAnew(): void {
    this.#version = undefined
    this.#copies.clear()
    this.#room.begunAnew()
    this.claims.begunAnew()
  }

  put(entry: Entry, now: number, claim?: Claim): PutResult | undefined {
    if (!claim) return this.#put(entry, now)
    return this.#file.inTransaction(() => {
      if (!this.claims.holds(claim)) return { notKept: 'out-of-date' }
      const result = this.#put(entry, now)
      if (!result?.notKept) this.claims.stored(claim)
      return result
    })
  }

  #put(entry: Entry, now: number): PutResult | undefined {
    const { key, provider, endpoint, head, body, storedAt, units, labels, price } = entry
    const texts = [units, price].map((one) => (one === undefined ? null : JSON.stringify(one)))
    const [unitsText, priceText] = texts as [string | null, string | null]
    const labelsText = labels === undefined || labels.length === 0 ? null : JSON.stringify(labels)
    const bytes = bytesOf(entry)
    this.#copies.drop(key)
    if (this.#room.isTooSmallFor(bytes)) {
      this.remove({ key })
      return { notKept: 'too-large' }
    }
    const put = () =>
      this.#file
        .statement(putEntry)
        .run(key, provider, endpoint, bytes, storedAt, ...laterTimes(entry), unitsText, labelsText, priceText, head, body)
    return this.#file.do(() => {
      const { isFull, mayBeEvicted } = this.#room.look(key, bytes)
      if (!isFull && !mayBeEvicted) {
        put()
        return undefined
      }
      return this.#file.inTransaction(() => {
        const wasEvicted = this.#room.takeEvicted(key, now)
        put()
        const evicted = this.#room.make(now)
        return wasEvicted || evicted ? { wasEvicted, evicted } : undefined
      })
    })
  }

  updateTimes(key: string, times: StoredTimes): void {
    this.#copies.drop(key)
    this.#file.do(() => this.#file.statement(updateTimes).run(...laterTimes(times), key, times.storedAt))
  }

  invalidate(selection: Selection, now: number, from?: string): Piece {
    this.#copies.clear()
    const { where, values, order } = conditionOf(selection)
    const start = from === undefined ? undefined : (JSON.parse(from) as (string | number)[])
    const names = order.join(', ')
    const places = `(${order.map(() => '?').join(', ')})`
    const after = start ? `AND (${names}) > ${places}` : ''
    return this.#file.inTransaction(() => {
      const rest = [...values, ...(start ?? [])]
      const last = this.#file
        .statement(`SELECT ${names} FROM entry WHERE ${where} ${after} ORDER BY ${names} LIMIT 1 OFFSET ?`)
        .get(...rest, pieceOf - 1)
      const end = last && order.map((name) => last[name] as string | number)
      const until = end ? `AND (${names}) <= ${places}` : ''
      const entries = this.#file
        .statement(
          `UPDATE entry SET fresh_until = min(fresh_until, ?), refreshable_until = min(fresh_until, ?),
            usable_until = min(fresh_until, ?), invalidated = 1 WHERE ${where} ${after} ${until}`, // all by the freshness that it had
        )
        .run(now, now, now, ...rest, ...(end ?? []))
      return { entries, next: end && JSON.stringify(end) }
    })
  }

  remove(selection: Selection): Dropped {
    const { where, values } = conditionOf(selection)
    this.#copies.clear()
    return this.#drop(`SELECT id FROM entry WHERE ${where} LIMIT ?`, values)
  }

  trim(selection: Selection, most: number, now: number): Trimmed {
    const condition = conditionOf(selection)
    const dropped: DroppedEntry[] = []
    const more = forAWhile(() => {
      const some = this.#file.inTransaction(() => this.#room.trim(selection, condition, { most, atOnce }, now))
      dropped.push(...some)
      return some.length === atOnce
    })
    return { evicted: evictedOf(dropped, now), more }
  }

  list(selection: Selection, { after = '', most = 100 }: Parameters<EntryStore['list']>[1] = {}): EntryPage {
    const { where, values } = conditionOf(selection)
    if (after === '') this.#room.settle()
    const rows = this.#file.do(() => this.#file.statement(selectEntries(where)).all(...values, after, most + 1))
    const entries = rows.slice(0, most).map((row): EntrySummary => summaryOf(String(row.key), row))
    return { entries, next: rows.length > most ? entries.at(-1)?.key : undefined }
  }

  sweep(now: number): Dropped {
    this.#copies.clear()
    return this.#drop('SELECT id FROM entry WHERE keep_until <= ? ORDER BY keep_until LIMIT ?', [now])
  }

  #drop(ids: string, values: readonly (string | number)[]): Dropped {
    let entries = 0
    const more = forAWhile(() => {
      const dropped = this.#file.do(() => this.#file.statement(`DELETE FROM entry WHERE id IN (${ids})`).run(...values, atOnce))
      entries += dropped
      return dropped === atOnce
    })
    return { entries, more }
  }

  /** Writes what is not written yet; for closing. */
  settle(): void {
    this.#room.settle()
  }

  size(): StoreSize {
    const { entries, bytes } = this.#file.do(() => this.#file.statement('SELECT entries, bytes FROM entry_total').get()) as Row
    return { entries: Number(entries), bytes: Number(bytes) }
  }
}

/** Copies of entries that this process keeps, in bytes at the most. */
const maxCopiesBytes = 8 * 1024 * 1024

/** Entries invalidated in a piece, and dropped in one step, of which a piece has as many as a few milliseconds allow. */
const pieceOf = 200
const atOnce = 50
const pieceMs = 5

/** Does steps for a few milliseconds, while there is more to do. Returns whether there still is. */
function forAWhile(step: () => boolean): boolean {
  const end = performance.now() + pieceMs
  for (;;) {
    if (!step()) return false
    if (performance.now() >= end) return true
  }
}
