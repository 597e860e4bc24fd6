import type { StoredTimes } from '../decide/entry-times.js'
import type { StoredHead } from '../http/stored-head.js'

export const entryStates = ['fresh', 'stale', 'invalidated'] as const
/** Whether a stored answer may be given at once, has to be asked for again, or may be given only once the upstream has confirmed it. */
export type EntryState = (typeof entryStates)[number]

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
