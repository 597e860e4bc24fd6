import { slotOf } from './places.js'

/** How long a use of an entry may wait to be written, milliseconds, and how many may. */
const writeAfterMs = 1_000
const mostUses = 10_000

/** Uses of entries that are not written yet: they only say what goes first, and are written together. */
export class UseBuffer {
  readonly #write: (slot: number, accountsAndKeys: readonly string[]) => Promise<unknown>
  /** By key, the accounts of the entries, in the order of their latest use. */
  readonly #used = new Map<string, string>()
  #timer: NodeJS.Timeout | undefined

  constructor(write: (slot: number, accountsAndKeys: readonly string[]) => Promise<unknown>) {
    this.#write = write
  }

  add(key: string, account: string): void {
    this.#used.delete(key)
    if (this.#used.size >= mostUses) return
    this.#used.set(key, account)
    this.#timer ??= setTimeout(() => void this.flush(), writeAfterMs).unref()
  }

  /** Never rejects. */
  async flush(): Promise<void> {
    clearTimeout(this.#timer)
    this.#timer = undefined
    const bySlot = new Map<number, string[]>()
    for (const [key, account] of this.#used) {
      const slot = slotOf(key)
      const there = bySlot.get(slot)
      if (there) there.push(account, key)
      else bySlot.set(slot, [account, key])
    }
    this.#used.clear()
    await Promise.allSettled([...bySlot].map(([slot, used]) => this.#write(slot, used)))
  }
}
