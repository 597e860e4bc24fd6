import { bytesOfKey, type Database } from './database.js'
import { totalsIn } from './room.js'

/** How long a use of an entry may wait to be written, milliseconds, and how many may. */
const writeAfterMs = 1_000
const mostUses = 1_000

/** Uses of entries that are not written yet: they only say what goes first, and are written together. */
export class UseBuffer {
  readonly #database: Database
  /** In the order of their latest use. */
  readonly #used = new Set<string>()
  #timer: ReturnType<typeof setTimeout> | undefined

  constructor(database: Database) {
    this.#database = database
  }

  add(key: string): void {
    this.#used.delete(key)
    if (this.#used.size >= mostUses) return
    this.#used.add(key)
    this.#timer ??= setTimeout(() => void this.flush(), writeAfterMs)
  }

  /** Never rejects. */
  async flush(): Promise<void> {
    clearTimeout(this.#timer)
    this.#timer = undefined
    if (this.#used.size === 0) return
    const keys = [...this.#used]
    this.#used.clear()
    await this.#database
      .run(['entries', 'totals'], 'readwrite', async (transaction) => {
        const entries = transaction.objectStore('entries')
        const totals = await totalsIn(transaction)
        let { uses } = totals
        for (const key of keys) {
          const entry = await entries.get(bytesOfKey(key))
          if (entry) await entries.put({ ...entry, used: ++uses }, bytesOfKey(key))
        }
        await transaction.objectStore('totals').put({ ...totals, uses }, 'all')
      })
      .catch(() => {})
  }
}
