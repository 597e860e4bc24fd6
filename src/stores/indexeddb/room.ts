import type { Entry, StoreSize } from '../../core/ports/entry-store.js'
import { wasFresh } from '../../core/ports/evictions.js'
import { bytesOfKey, type KeptEntry, type Mode, type Totals, type Transaction } from './database.js'

/** What an entry takes beside its key, head and body, with what finds it, bytes. */
const entryOverhead = 500
const labelOverhead = 100

/** Where room is needed, this share of it is made beyond what is needed, so that the next entries find some. */
const spareShare = 64

/** Keys of evicted entries remembered, at the most. */
const mostEvicted = 1_000

const encoder = new TextEncoder()

/** How many bytes of the room an entry takes; its key stands with its entry, its body and each of its indexes. */
export function roomOf({ key, head, labels = [] }: Pick<Entry, 'key' | 'head' | 'labels'>, bodyBytes: number): number {
  const keyBytes = encoder.encode(key).byteLength
  const ofLabels = labels.reduce((sum, label) => sum + 2 * label.length + keyBytes + labelOverhead, 0)
  return bodyBytes + 2 * head.length + 8 * keyBytes + entryOverhead + ofLabels
}

export async function totalsIn(transaction: Transaction<Mode>): Promise<Totals> {
  return (await transaction.objectStore('totals').get('all')) ?? { entries: 0, bytes: 0, uses: 0 }
}

/** Drops an entry; returns what there is less by it. */
export async function drop(transaction: Transaction<'readwrite'>, entry: KeptEntry): Promise<StoreSize> {
  const key = bytesOfKey(entry.key)
  await Promise.all([transaction.objectStore('entries').delete(key), transaction.objectStore('bodies').delete(key)])
  return { entries: 1, bytes: roomOf(entry, entry.bytes) }
}

/** Remembers an entry that was dropped to make room, where it was fresh. */
export async function remember(transaction: Transaction<'readwrite'>, entry: KeptEntry, now: number): Promise<void> {
  if (!wasFresh(entry, now)) return
  const evicted = transaction.objectStore('evicted')
  await evicted.put({ freshUntil: entry.freshUntil }, bytesOfKey(entry.key))
  if ((await evicted.count()) <= mostEvicted) return
  for (const key of await evicted.index('freshUntil').getAllKeys(null, mostEvicted / 10)) await evicted.delete(key)
}

/** Drops an entry to make room; returns what there is less by it. */
export async function evict(transaction: Transaction<'readwrite'>, entry: KeptEntry, now: number): Promise<StoreSize> {
  await remember(transaction, entry, now)
  return drop(transaction, entry)
}

/** What there is without some entries. */
export function without(totals: Totals, gone: readonly KeptEntry[]): Totals {
  const bytes = gone.reduce((sum, entry) => sum + roomOf(entry, entry.bytes), 0)
  return { ...totals, entries: totals.entries - gone.length, bytes: totals.bytes - bytes }
}

/** Entries that take so many bytes together: those not worth keeping any more, then those used least recently. */
export async function leastWorth(transaction: Transaction<Mode>, bytes: number, now: number): Promise<KeptEntry[]> {
  const entries = transaction.objectStore('entries')
  const found = new Map<string, KeptEntry>()
  let left = bytes
  for (const [name, range] of [
    ['keepUntil', IDBKeyRange.upperBound(now)],
    ['used', null],
  ] as const)
    for (let cursor = await entries.index(name).openCursor(range); cursor && left > 0; cursor = await cursor.continue()) {
      if (found.has(cursor.value.key)) continue
      found.set(cursor.value.key, cursor.value)
      left -= roomOf(cursor.value, cursor.value.bytes)
    }
  return [...found.values()]
}

/** Drops entries but one until what there is fits, and a little more. Returns what is left, and what went. */
export async function makeRoom(
  transaction: Transaction<'readwrite'>,
  totals: Totals,
  { maxBytes, latest }: { readonly maxBytes: number; readonly latest: string },
  now: number,
): Promise<{ readonly totals: Totals; readonly dropped: readonly KeptEntry[] }> {
  if (totals.bytes <= maxBytes) return { totals, dropped: [] }
  const least = await leastWorth(transaction, totals.bytes - maxBytes + maxBytes / spareShare, now)
  const dropped = least.filter(({ key }) => key !== latest)
  for (const entry of dropped) await evict(transaction, entry, now)
  return { totals: without(totals, dropped), dropped }
}

/** Counts anew what there is, where that is not what was counted: a tab was gone before it could write what it had dropped. */
export async function recount(transaction: Transaction<'readwrite'>): Promise<void> {
  const totals = await totalsIn(transaction)
  const store = transaction.objectStore('entries')
  if ((await store.count()) === totals.entries) return
  let [entries, bytes] = [0, 0]
  for (let cursor = await store.openCursor(); cursor; cursor = await cursor.continue()) {
    entries++
    bytes += roomOf(cursor.value, cursor.value.bytes)
  }
  await transaction.objectStore('totals').put({ entries, bytes, uses: totals.uses }, 'all')
}
