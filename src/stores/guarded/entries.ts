import type { StoredTimes } from '../../core/decide/entry-times.js'
import type { Entry, EntryPage, EntryStore, Evicted, PutResult, Selection, StoreSize } from '../../core/ports/entry-store.js'
import type { Maybe } from '../../core/ports/maybe.js'
import { isSelected } from '../../core/ports/selection.js'
import type { Guard } from './guard.js'
import { soundness } from './soundness.js'

/** Invalidations that a failing store did not take, at the most; with more, nothing stored before is given out. */
const mostPending = 10_000

export class GuardedEntries implements EntryStore {
  readonly #entries: EntryStore
  readonly #guard: Guard
  /** What was invalidated or removed while the store could not be told, as JSON, with when and how. */
  readonly #pending = new Map<string, { readonly selection: Selection; readonly at: number; readonly drop: boolean }>()

  constructor(entries: EntryStore, guard: Guard) {
    this.#entries = entries
    this.#guard = guard
  }

  get(key: string): Maybe<Entry | undefined> {
    const { reading, isOpen } = this.#guard
    if (!isOpen || this.#pending.size > 0 || reading.trouble !== undefined) return this.#getWithCare(key)
    let found: Maybe<Entry | undefined>
    try {
      found = this.#entries.get(key)
    } catch (error) {
      reading.failed(error)
      return undefined
    }
    if (found instanceof Promise) return this.#soundInTime(key, found)
    return found === undefined || (found.memo !== undefined && found.key === key) ? found : this.#sound(key, found) // a memo: read before
  }

  put(entry: Entry, now: number): Maybe<PutResult | undefined> {
    return this.#guard.attempt<PutResult | undefined>(() => this.#entries.put(entry, now), { notKept: 'trouble' })
  }

  updateTimes(key: string, times: StoredTimes): Maybe<void> {
    return this.#guard.attempt(() => this.#entries.updateTimes(key, times), undefined)
  }

  /** What the store cannot be told is kept, and counts for what is read, until it can. */
  invalidate(selection: Selection, now: number): Maybe<void> {
    return this.#orLater(() => this.#entries.invalidate(selection, now), undefined, { selection, at: now, drop: false })
  }

  remove(selection: Selection): Maybe<number> {
    return this.#orLater(() => this.#entries.remove(selection), 0, { selection, at: 0, drop: true })
  }

  trim(selection: Selection, most: number, now: number): Maybe<readonly Evicted[]> {
    return this.#guard.attemptIfOpen<readonly Evicted[]>(() => this.#entries.trim(selection, most, now), [])
  }

  list(...args: Parameters<EntryStore['list']>): Maybe<EntryPage> {
    return this.#guard.read(() => this.#entries.list(...args))
  }

  sweep(now: number): Maybe<number> {
    return this.#guard.attemptIfOpen(() => this.#entries.sweep(now), 0)
  }

  size(): Maybe<StoreSize> {
    return this.#guard.read(() => this.#entries.size())
  }

  #orLater<T>(work: () => Maybe<T>, instead: T, later: { selection: Selection; at: number; drop: boolean }): Maybe<T> {
    const keep = () => {
      const pending = this.#pending.size < mostPending ? later : { selection: { all: true } as const, at: later.at, drop: false }
      this.#pending.set(JSON.stringify([pending.selection, pending.drop]), pending)
      return instead
    }
    try {
      const done = this.#guard.write(work)
      return done instanceof Promise ? done.catch(keep) : done
    } catch {
      return keep()
    }
  }

  async #getWithCare(key: string): Promise<Entry | undefined> {
    if (this.#pending.size > 0) await this.#tellPending()
    try {
      const found = this.#sound(key, await this.#guard.read(() => this.#entries.get(key)))
      const isPending = found && [...this.#pending.values()].some(({ selection }) => isSelected(selection, found))
      return isPending ? undefined : found
    } catch {
      return undefined
    }
  }

  async #tellPending(): Promise<void> {
    for (const [name, { selection, at, drop }] of [...this.#pending]) {
      try {
        await this.#guard.write<unknown>(() => (drop ? this.#entries.remove(selection) : this.#entries.invalidate(selection, at)))
        this.#pending.delete(name)
      } catch {
        return
      }
    }
  }

  async #soundInTime(key: string, found: Promise<Entry | undefined>): Promise<Entry | undefined> {
    return this.#sound(key, await this.#guard.reading.attempt(() => found, undefined))
  }

  /** An entry that is one, else none: what is none is dropped. */
  #sound(key: string, entry: Entry | undefined): Entry | undefined {
    if (entry === undefined) return undefined
    const fault = soundness(key, entry)
    if (fault === undefined) return entry
    this.#guard.options.corrupt(entry, key, new TypeError(fault))
    void this.remove({ key })
    return undefined
  }
}
