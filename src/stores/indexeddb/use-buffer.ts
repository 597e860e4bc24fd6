import type { Entry } from '../../core/ports/entry-store.js'
import { type RecentUse, RecentUses } from '../usage.js'
import { bytesOfKey, type Database, type KeptEntry } from './database.js'
import { totalsIn } from './room.js'

/** How long a use of an entry may wait to be written, milliseconds, and how many may. */
const writeAfterMs = 1_000
const mostUses = 1_000

/** Uses of entries, which are written together. */
export class UseBuffer {
  readonly #database: Database
  readonly #uses = new RecentUses(mostUses)
  #timer: ReturnType<typeof setTimeout> | undefined

  constructor(database: Database) {
    this.#database = database
  }

  use(entry: Entry): void {
    this.#uses.use(entry)
    this.#timer ??= setTimeout(() => void this.flush(), writeAfterMs)
  }

  given(entry: Entry, now: number, isSaving: boolean): void {
    this.#uses.given(entry, now, isSaving)
    this.#timer ??= setTimeout(() => void this.flush(), writeAfterMs)
  }

  /** Never rejects. */
  async flush(): Promise<void> {
    clearTimeout(this.#timer)
    this.#timer = undefined
    const all = this.#uses.take()
    if (all.length === 0) return
    await this.#database
      .run(['entries', 'totals'], 'readwrite', async (transaction) => {
        const entries = transaction.objectStore('entries')
        const totals = await totalsIn(transaction)
        let { uses } = totals
        for (const one of all) {
          const key = bytesOfKey(one.key)
          const entry = await entries.get(key)
          if (entry) await entries.put({ ...entry, used: ++uses, usage: usageWith(entry, one) }, key)
        }
        await transaction.objectStore('totals').put({ ...totals, uses }, 'all')
      })
      .catch(() => {})
  }
}

function usageWith({ storedAt, usage }: KeptEntry, one: RecentUse): KeptEntry['usage'] {
  if (one.storedAt !== storedAt || one.times === 0) return usage
  return { times: (usage?.times ?? 0) + one.times, saved: (usage?.saved ?? 0) + one.saved, lastAt: one.lastAt }
}
