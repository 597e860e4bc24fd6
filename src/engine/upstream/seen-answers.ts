import { invalidatedTimes, type StoredTimes } from '../../core/decide/entry-times.js'
import { invalidateAll } from '../../core/in-pieces.js'
import type { Clock } from '../../core/ports/clock.js'
import type { Entry, EntryStore } from '../../core/ports/entry-store.js'
import type { Maybe } from '../../core/ports/maybe.js'

/** An answer that was measured: to which call, the times of the entry that reuse would have stored, and a digest of it in place of its body. */
export interface Seen {
  readonly request: string
  readonly askedAt: number
  readonly times: StoredTimes
  readonly digest: string
  /** Whether each use makes it fresh for longer, where the rule slides. */
  readonly slides: boolean
}

/** How long an answer is remembered at the least, milliseconds, so that it shows whether those after it differ. */
const leastMs = 86_400_000

/**
 * The answers seen while only measuring, of all processes that share the store. They are kept as entries under names of their own, which no call
 * asks for: so the store bounds them; they count as out of date there, so that they go before any answer does, and none is missed.
 */
export class SeenAnswers {
  readonly #entries: EntryStore
  readonly #clock: Clock

  constructor(entries: EntryStore, clock: Clock) {
    this.#entries = entries
    this.#clock = clock
  }

  find(key: string): Maybe<Seen | undefined> {
    const entry = this.#entries.get(nameOf(key))
    return entry instanceof Promise ? entry.then(seenIn) : seenIn(entry)
  }

  keep({ provider, endpoint }: Pick<Entry, 'provider' | 'endpoint'>, key: string, seen: Seen, now: number): Maybe<unknown> {
    const { storedAt, keepUntil } = seen.times
    const times = { ...seen.times, freshUntil: storedAt, refreshableUntil: storedAt, usableUntil: storedAt }
    const entry = { ...times, keepUntil: Math.max(keepUntil, now + leastMs), provider, endpoint, key: nameOf(key) }
    return this.#entries.put({ ...entry, head: JSON.stringify(seen), body: new Uint8Array() }, now)
  }

  forget(key: string): Maybe<unknown> {
    return this.#entries.remove({ key: nameOf(key) })
  }

  invalidate(under: string, now: number): Maybe<void> {
    return invalidateAll(this.#clock, this.#entries, { under: nameOf(under) }, now)
  }
}

function nameOf(key: string): string {
  return `measured ${key}`
}

/** Undefined also where what stands there is none. */
function seenIn(entry: Entry | undefined): Seen | undefined {
  if (!entry) return undefined
  try {
    const seen = JSON.parse(entry.head) as Seen
    if (typeof seen.digest !== 'string' || typeof seen.times?.freshUntil !== 'number') return undefined
    return entry.invalidated ? { ...seen, times: invalidatedTimes(seen.times, seen.times.storedAt) } : seen
  } catch {
    return undefined
  }
}
