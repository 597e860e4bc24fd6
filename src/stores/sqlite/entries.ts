import type { StoredTimes } from '../../core/decide/entry-times.js'
import type { Entry, EntryPage, EntryStore, EntrySummary, Evicted, PutResult, Selection, StoreSize } from '../../core/ports/entry-store.js'
import type { Row } from './driver.js'
import { bytesOf, type Room } from './room.js'
import type { SqliteFile } from './sqlite-file.js'

export class SqliteEntries implements EntryStore {
  readonly #file: SqliteFile
  readonly #room: Room

  constructor(file: SqliteFile, room: Room) {
    this.#file = file
    this.#room = room
  }

  get(key: string): Entry | undefined {
    let row: Row | undefined
    try {
      row = this.#file.statement(getEntry).get(key)
    } catch (error) {
      row = this.#file.again(error, () => this.#file.statement(getEntry).get(key))
    }
    if (row === undefined) return undefined
    this.#room.use(key)
    return { ...summaryOf(key, row), body: row.body as Uint8Array }
  }

  put(entry: Entry, now: number): PutResult | undefined {
    const { key, provider, endpoint, head, body, storedAt, units } = entry
    const unitsText = units === undefined ? null : JSON.stringify(units)
    const bytes = bytesOf(entry)
    if (this.#room.isTooSmallFor(bytes)) {
      this.remove({ key })
      return { notKept: 'too-large' }
    }
    const put = () =>
      this.#file.statement(putEntry).run(key, provider, endpoint, bytes, storedAt, ...laterTimes(entry), unitsText, head, body)
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
    this.#file.do(() =>
      this.#file
        .statement(`UPDATE entry SET ${timeColumns.map((name) => `${name} = ?`).join(', ')} WHERE key = ? AND stored_at = ?`)
        .run(...laterTimes(times), key, times.storedAt),
    )
  }

  invalidate(selection: Selection, now: number): void {
    const { where, values } = conditionOf(selection)
    this.#file.do(() =>
      this.#file
        .statement(
          `UPDATE entry SET fresh_until = min(fresh_until, ?), refreshable_until = min(fresh_until, ?),
            usable_until = min(fresh_until, ?), invalidated = 1 WHERE ${where}`, // all by the freshness that it had
        )
        .run(now, now, now, ...values),
    )
  }

  remove(selection: Selection): number {
    const { where, values } = conditionOf(selection)
    return this.#file.do(() => this.#file.statement(`DELETE FROM entry WHERE ${where}`).run(...values))
  }

  trim(selection: Selection, most: number, now: number): readonly Evicted[] {
    return this.#file.inTransaction(() => this.#room.trim(conditionOf(selection), most, now))
  }

  list(selection: Selection, { after = '', most = 100 }: Parameters<EntryStore['list']>[1] = {}): EntryPage {
    const { where, values } = conditionOf(selection)
    const rows = this.#file.do(() =>
      this.#file
        .statement(`SELECT key, ${columns}, length(body) AS bytes FROM entry WHERE (${where}) AND key > ? ORDER BY key LIMIT ?`)
        .all(...values, after, most + 1),
    )
    const entries = rows.slice(0, most).map((row): EntrySummary => ({ ...summaryOf(String(row.key), row), bytes: Number(row.bytes) }))
    return { entries, next: rows.length > most ? entries.at(-1)?.key : undefined }
  }

  sweep(now: number): number {
    return this.#file.do(() => this.#file.statement('DELETE FROM entry WHERE keep_until <= ?').run(now))
  }

  size(): StoreSize {
    const { entries, bytes } = this.#file.do(() => this.#file.statement('SELECT entries, bytes FROM entry_total').get()) as Row
    return { entries: Number(entries), bytes: Number(bytes) }
  }
}

const timeColumns = ['born_at', 'fresh_until', 'refreshable_until', 'usable_until', 'keep_until', 'must_revalidate', 'invalidated']
const columns = `provider, endpoint, head, stored_at, ${timeColumns.join(', ')}, units`
const getEntry = `SELECT ${columns}, body FROM entry WHERE key = ?`
const putColumns = ['key', 'provider', 'endpoint', 'bytes', 'stored_at', ...timeColumns, 'units', 'head', 'body']
const putEntry = `INSERT INTO entry (id, ${putColumns.join(', ')})
  VALUES ((SELECT uses + 1 FROM entry_total), ${putColumns.map(() => '?').join(', ')})
  ON CONFLICT (key) DO UPDATE SET ${putColumns.map((name) => `${name} = excluded.${name}`).join(', ')}`

function conditionOf(selection: Selection): { where: string; values: string[] } {
  if ('all' in selection) return { where: 'true', values: [] }
  if ('key' in selection) return { where: 'key = ?', values: [selection.key] }
  if ('under' in selection) {
    const { under } = selection
    return { where: '(key = ? OR (key > ? AND key < ?))', values: [under, `${under} `, `${under}!`] } // "!" comes right after the space
  }
  const { provider, endpoint } = selection
  if (endpoint === undefined) return { where: 'provider = ?', values: [provider] }
  return { where: 'provider = ? AND endpoint = ?', values: [provider, endpoint] }
}

/** The times that go into `timeColumns`. */
function laterTimes(times: StoredTimes): number[] {
  const { bornAt, freshUntil, refreshableUntil, usableUntil, keepUntil, mustRevalidate, invalidated } = times
  return [bornAt, freshUntil, refreshableUntil, usableUntil, keepUntil, mustRevalidate ? 1 : 0, invalidated ? 1 : 0]
}

function summaryOf(key: string, row: Row): Omit<Entry, 'body'> {
  return {
    key,
    provider: row.provider as string,
    endpoint: row.endpoint as string,
    head: row.head as string,
    storedAt: row.stored_at as number,
    bornAt: row.born_at as number,
    freshUntil: row.fresh_until as number,
    refreshableUntil: row.refreshable_until as number,
    usableUntil: row.usable_until as number,
    keepUntil: row.keep_until as number,
    mustRevalidate: row.must_revalidate === 1,
    invalidated: row.invalidated === 1,
    units: row.units === null ? undefined : (JSON.parse(row.units as string) as Entry['units']),
  }
}
