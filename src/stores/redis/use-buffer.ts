import type { Entry } from '../../core/ports/entry-store.js'
import { RecentUses } from '../usage.js'
import { accountOf } from './entry-form.js'
import { slotOf } from './places.js'

/** How long a use of an entry may wait to be written, milliseconds, and how many may. */
const writeAfterMs = 1_000
const mostUses = 10_000

/** Uses of entries, which are written together. */
export class UseBuffer {
  readonly #write: (slot: number, used: readonly string[]) => Promise<unknown>
  readonly #uses = new RecentUses(mostUses)
  #timer: NodeJS.Timeout | undefined

  constructor(write: (slot: number, used: readonly string[]) => Promise<unknown>) {
    this.#write = write
  }

  use(entry: Entry): void {
    this.#uses.use(entry)
    this.#timer ??= setTimeout(() => void this.flush(), writeAfterMs).unref()
  }

  given(entry: Entry, now: number, isSaving: boolean): void {
    this.#uses.given(entry, now, isSaving)
    this.#timer ??= setTimeout(() => void this.flush(), writeAfterMs).unref()
  }

  /** Never rejects. */
  async flush(): Promise<void> {
    clearTimeout(this.#timer)
    this.#timer = undefined
    const bySlot = new Map<number, string[]>()
    for (const use of this.#uses.take()) {
      const slot = slotOf(use.key)
      const there = bySlot.get(slot) ?? []
      there.push(accountOf(use), use.key, ...[use.storedAt, use.times, use.saved, use.lastAt].map(String))
      bySlot.set(slot, there)
    }
    await Promise.allSettled([...bySlot].map(([slot, used]) => this.#write(slot, used)))
  }
}
