import type { Entry, Evicted } from './entry-store.js'

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
