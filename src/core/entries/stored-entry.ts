import { ageMs } from '../decide/decide.js'
import type { StoredTimes } from '../decide/entry-times.js'
import type { StoredHead } from '../http/stored-head.js'
import type { EntrySummary } from '../ports/entry-store.js'

export const entryStates = ['fresh', 'stale', 'invalidated'] as const
/** Whether a stored answer may be given at once, has to be asked for again, or may be given only once the upstream has confirmed it. */
export type EntryState = (typeof entryStates)[number]

/** A stored answer, without its body. */
export interface StoredEntry {
  readonly key: string
  readonly provider: string
  readonly endpoint: string
  /** Null for the value of an operation. */
  readonly status: number | null
  /** What it is labelled with. */
  readonly labels: readonly string[]
  /** Length of its body. */
  readonly bytes: number
  readonly state: EntryState
  readonly storedAt: Date
  /** Since it was made or last confirmed (RFC 9111 section 4.2.3), milliseconds. */
  readonly ageMs: number
  readonly freshUntil: Date
  /** How long it is fresh still, milliseconds; 0 where it is not. */
  readonly freshForMs: number
  /** Until when it may be given out where the upstream fails. */
  readonly usableUntil: Date
  /** Until when it is worth keeping. */
  readonly keepUntil: Date
}

/** How an entry stands at `now`, by the rule that it was stored under. */
export function storedEntry(entry: EntrySummary, now: number): StoredEntry {
  const { key, provider, endpoint, head, labels = [], bytes, storedAt, freshUntil, usableUntil, keepUntil } = entry
  const state = stateOf(entry, now)
  return {
    ...{ key, provider, endpoint, status: statusOf(head), labels, bytes, state },
    ...{ storedAt: new Date(storedAt), ageMs: ageMs(entry, now), freshUntil: new Date(freshUntil) },
    freshForMs: state === 'fresh' ? freshUntil - now : 0,
    ...{ usableUntil: new Date(usableUntil), keepUntil: new Date(keepUntil) },
  }
}

export function stateOf({ invalidated, freshUntil }: Pick<StoredTimes, 'invalidated' | 'freshUntil'>, now: number): EntryState {
  if (invalidated) return 'invalidated'
  return now < freshUntil ? 'fresh' : 'stale'
}

/** The status in the head of an entry; null where it has none. */
export function statusOf(head: string): number | null {
  if (!head.startsWith('{')) return null
  try {
    const { status } = JSON.parse(head) as Partial<StoredHead>
    return typeof status === 'number' ? status : null
  } catch {
    return null
  }
}
