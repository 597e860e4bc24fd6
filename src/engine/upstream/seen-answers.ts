import { measuredKey, type Seen, seenIn } from '../../core/entries/measured-entry.js'
import { invalidateAll } from '../../core/in-pieces.js'
import type { Clock } from '../../core/ports/clock.js'
import type { Entry, EntryStore } from '../../core/ports/entry-store.js'
import type { Maybe } from '../../core/ports/maybe.js'
import type { Selection } from '../../core/ports/selection.js'

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
    const entry = this.#entries.get(measuredKey(key))
    return entry instanceof Promise ? entry.then((one) => one && seenIn(one)) : entry && seenIn(entry)
  }

  keep({ provider, endpoint }: Pick<Entry, 'provider' | 'endpoint'>, key: string, seen: Seen, now: number): Maybe<unknown> {
    const { storedAt, keepUntil } = seen.times
    const times = { ...seen.times, freshUntil: storedAt, refreshableUntil: storedAt, usableUntil: storedAt }
    const entry = {
      ...times,
      keepUntil: Math.max(keepUntil, now + leastMs),
      provider,
      endpoint,
      key: measuredKey(key),
      labels: seen.labels,
    }
    return this.#entries.put({ ...entry, head: JSON.stringify(seen), body: new Uint8Array() }, now)
  }

  forget(key: string): Maybe<unknown> {
    return this.#entries.remove({ key: measuredKey(key) })
  }

  invalidate(selection: Selection, now: number): Maybe<void> {
    return invalidateAll(this.#clock, this.#entries, measured(selection), now)
  }
}

/** What was measured of what a selection means. */
function measured(selection: Selection): Selection {
  if ('under' in selection) return { under: measuredKey(selection.under) }
  return 'path' in selection ? { path: measuredKey(selection.path) } : selection
}
