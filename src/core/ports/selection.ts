import type { Entry, EntryPage, EntrySummary, Evicted, Selection } from './entry-store.js'

/** Whether a selection means an entry. For stores without an index of their own. */
export function isSelected(selection: Selection, entry: Pick<Entry, 'key' | 'provider' | 'endpoint'>): boolean {
  if ('all' in selection) return true
  if ('key' in selection) return entry.key === selection.key
  if ('under' in selection) return entry.key === selection.under || entry.key.startsWith(`${selection.under} `)
  return entry.provider === selection.provider && (selection.endpoint === undefined || entry.endpoint === selection.endpoint)
}

/** Entries that were dropped to make room, as far as they were fresh, by their endpoints. For what `put` and `trim` return. */
export function evictedOf(dropped: readonly Pick<Entry, 'provider' | 'endpoint' | 'freshUntil' | 'invalidated'>[], now: number): Evicted[] {
  const counts = new Map<string, Evicted>()
  for (const entry of dropped) {
    if (!wasFresh(entry, now)) continue
    const { provider, endpoint } = entry
    const place = JSON.stringify([provider, endpoint])
    counts.set(place, { provider, endpoint, entries: (counts.get(place)?.entries ?? 0) + 1 })
  }
  return [...counts.values()]
}

/** Whether a dropped entry could have been given out as fresh. */
export function wasFresh({ freshUntil, invalidated }: Pick<Entry, 'freshUntil' | 'invalidated'>, now: number): boolean {
  return !invalidated && freshUntil > now
}

/** What matters of an entry that was dropped. */
export type DroppedEntry = Pick<Entry, 'provider' | 'endpoint' | 'freshUntil' | 'invalidated'>

/** Entries listed at once, where nothing else is asked for. */
const usualPage = 100

/** A page of entries that are all at hand, in any order. */
export function pageOf(
  entries: readonly EntrySummary[],
  { after, most = usualPage }: { readonly after?: string | undefined; readonly most?: number } = {},
): EntryPage {
  const keyed = entries.map((entry) => ({ entry, bytes: encoder.encode(entry.key) })).sort((a, b) => order(a.bytes, b.bytes))
  const start = after === undefined ? undefined : encoder.encode(after)
  const rest = start ? keyed.filter(({ bytes }) => order(bytes, start) > 0) : keyed
  const page = rest.slice(0, most).map(({ entry }) => entry)
  return { entries: page, next: rest.length > most ? page.at(-1)?.key : undefined }
}

/** The order of UTF-8 bytes. */
function order(one: Uint8Array, other: Uint8Array): number {
  const length = Math.min(one.length, other.length)
  for (let i = 0; i < length; i++) if (one[i] !== other[i]) return (one[i] as number) - (other[i] as number)
  return one.length - other.length
}

const encoder = new TextEncoder()

/** The order of two keys in a list: that of their bytes in UTF-8. */
export function byteOrder(one: string, other: string): number {
  return order(encoder.encode(one), encoder.encode(other))
}
