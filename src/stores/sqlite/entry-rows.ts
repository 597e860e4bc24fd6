import type { StoredTimes } from '../../core/decide/entry-times.js'
import type { Entry, EntrySummary } from '../../core/ports/entry-store.js'
import type { Selection } from '../../core/ports/selection.js'
import type { Row } from './driver.js'

const timeColumns = ['born_at', 'fresh_until', 'refreshable_until', 'usable_until', 'keep_until', 'must_revalidate', 'invalidated']
const columns = `provider, endpoint, head, stored_at, ${timeColumns.join(', ')}, units, labels, price`
/** In the order of `entryOf`. */
export const getEntry = `SELECT ${columns}, body FROM entry WHERE key = ?`
const putColumns = ['key', 'provider', 'endpoint', 'bytes', 'stored_at', ...timeColumns, 'units', 'labels', 'price', 'head', 'body']
export const putEntry = `INSERT INTO entry (id, ${putColumns.join(', ')})
  VALUES ((SELECT uses + 1 FROM entry_total), ${putColumns.map(() => '?').join(', ')})
  ON CONFLICT (key) DO UPDATE SET ${putColumns.map((name) => `${name} = excluded.${name}`).join(', ')}`

export const updateTimes = `UPDATE entry SET ${timeColumns.map((name) => `${name} = ?`).join(', ')} WHERE key = ? AND stored_at = ?`

/** A page of entries without their bodies: after a key, so many. */
export function selectEntries(where: string): string {
  const usage = ['uses', 'saved', 'used_at'].map((name) => `(SELECT ${name} FROM entry_use WHERE entry_use.id = entry.id) AS ${name}`)
  return `SELECT key, ${columns}, length(body) AS bytes, ${usage.join(', ')} FROM entry WHERE (${where}) AND key > ? ORDER BY key LIMIT ?`
}

/** Which entries are meant, in SQL; `order`: the columns that an index gives them in the order of. */
export interface Condition {
  readonly where: string
  readonly values: readonly string[]
  readonly order: readonly ('id' | 'key' | 'endpoint')[]
}

export function conditionOf(selection: Selection): Condition {
  if ('all' in selection) return { where: 'true', values: [], order: ['id'] }
  if ('key' in selection) return { where: 'key = ?', values: [selection.key], order: ['key'] }
  if ('under' in selection) {
    const { under } = selection
    // "!" comes right after the space
    const values = [under, `${under}!`, under, `${under} `]
    return { where: 'key >= ? AND key < ? AND (key = ? OR key >= ?)', values, order: ['key'] }
  }
  if ('path' in selection) return { where: 'key >= ? AND key < ?', values: [`${selection.path}?`, `${selection.path}@`], order: ['key'] } // "@" comes next
  if ('label' in selection) return { where: 'id IN (SELECT id FROM entry_label WHERE label = ?)', values: [selection.label], order: ['id'] }
  const { provider, endpoint } = selection
  if (endpoint === undefined) return { where: 'provider = ?', values: [provider], order: ['endpoint', 'id'] }
  return { where: 'provider = ? AND endpoint = ?', values: [provider, endpoint], order: ['id'] }
}

/** The times that go into `timeColumns`. */
export function laterTimes(times: StoredTimes): number[] {
  const { bornAt, freshUntil, refreshableUntil, usableUntil, keepUntil, mustRevalidate, invalidated } = times
  return [bornAt, freshUntil, refreshableUntil, usableUntil, keepUntil, mustRevalidate ? 1 : 0, invalidated ? 1 : 0]
}

export function entryOf(key: string, row: readonly unknown[]): Entry {
  return {
    key,
    provider: row[0] as string,
    endpoint: row[1] as string,
    head: row[2] as string,
    storedAt: row[3] as number,
    bornAt: row[4] as number,
    freshUntil: row[5] as number,
    refreshableUntil: row[6] as number,
    usableUntil: row[7] as number,
    keepUntil: row[8] as number,
    mustRevalidate: row[9] === 1,
    invalidated: row[10] === 1,
    units: row[11] === null ? undefined : (JSON.parse(row[11] as string) as Entry['units']),
    labels: row[12] === null ? undefined : (JSON.parse(row[12] as string) as Entry['labels']),
    price: row[13] === null ? undefined : (JSON.parse(row[13] as string) as Entry['price']),
    body: row[14] as Uint8Array,
  }
}

export function summaryOf(key: string, row: Row): EntrySummary {
  const times = Number(row.uses ?? 0)
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
    labels: row.labels === null ? undefined : (JSON.parse(row.labels as string) as Entry['labels']),
    price: row.price === null ? undefined : (JSON.parse(row.price as string) as Entry['price']),
    bytes: Number(row.bytes),
    usage: times === 0 ? undefined : { times, saved: Number(row.saved), lastAt: Number(row.used_at) },
  }
}
