import type { Entry, EntryUsage } from '../core/ports/entry-store.js'

type Used = Pick<Entry, 'key' | 'provider' | 'endpoint' | 'storedAt'>

/** How an entry was used since that was written last; `turn` is higher, the later its latest use. */
export type RecentUse = Used & EntryUsage & { readonly turn: number }

/** Uses of entries that are not written yet: they say what goes first, and how often answers were given. */
export class RecentUses {
  readonly #most: number
  readonly #byKey = new Map<string, { -readonly [Name in keyof RecentUse]: RecentUse[Name] }>()
  #turns = 0

  /** Of so many entries at the most; uses of others are forgotten. */
  constructor(most: number) {
    this.#most = most
  }

  get isEmpty(): boolean {
    return this.#byKey.size === 0
  }

  /** An entry was used. */
  use(entry: Used): void {
    this.#of(entry)
  }

  /** An entry was given as an answer, in place of a call or not. */
  given(entry: Used, now: number, isSaving: boolean): void {
    const one = this.#of(entry)
    if (!one) return
    one.times++
    if (isSaving) one.saved++
    one.lastAt = now
  }

  #of({ key, provider, endpoint, storedAt }: Used) {
    let one = this.#byKey.get(key)
    if (!one || one.storedAt !== storedAt) {
      if (!one && this.#byKey.size >= this.#most) return undefined
      one = { key, provider, endpoint, storedAt, times: 0, saved: 0, lastAt: 0, turn: 0 }
      this.#byKey.set(key, one)
    }
    one.turn = ++this.#turns
    return one
  }

  /** All of them, the entry that was used last at the end; they are forgotten here. */
  take(): RecentUse[] {
    const all = [...this.#byKey.values()].sort((one, other) => one.turn - other.turn)
    this.#byKey.clear()
    return all
  }
}
