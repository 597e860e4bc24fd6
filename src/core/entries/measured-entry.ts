import { expiredTimes, invalidatedTimes, type StoredTimes } from '../decide/entry-times.js'
import type { Entry, EntrySummary } from '../ports/entry-store.js'

/** An answer that was measured: to which call, the times of the entry that reuse would have stored, and a digest of it in place of its body. */
export interface Seen {
  readonly request: string
  readonly askedAt: number
  readonly times: StoredTimes
  readonly digest: string
  /** Whether each use makes it fresh for longer, where the rule slides. */
  readonly slides: boolean
  readonly labels?: readonly string[] | undefined
}

const prefix = 'measured '

/** The key of the entry that keeps what was measured of a key: no call asks for it. */
export function measuredKey(key: string): string {
  return prefix + key
}

/** The key of which an entry keeps what was measured; undefined where it is an answer. */
export function keyMeasuredBy(key: string): string | undefined {
  return key.startsWith(prefix) ? key.slice(prefix.length) : undefined
}

/** What an entry keeps; undefined where that is nothing that was measured. */
export function seenIn(entry: Pick<Entry, 'head' | 'invalidated'>): Seen | undefined {
  try {
    const seen = JSON.parse(entry.head) as Seen
    if (typeof seen.digest !== 'string' || typeof seen.times?.freshUntil !== 'number') return undefined
    return entry.invalidated ? { ...seen, times: invalidatedTimes(seen.times, seen.times.storedAt) } : seen
  } catch {
    return undefined
  }
}

/** An entry of which the freshness that reuse would have given ended at `now`. */
export function measuredUntil(entry: EntrySummary, now: number): Entry | undefined {
  const seen = seenIn(entry)
  if (!seen) return undefined
  const { bytes, ...rest } = entry
  return { ...rest, head: JSON.stringify({ ...seen, times: expiredTimes(seen.times, now) }), body: new Uint8Array(bytes) }
}
