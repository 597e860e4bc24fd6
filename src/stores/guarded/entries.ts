import type { StoredTimes } from '../../core/decide/entry-times.js'
import { inPieces, invalidateAll } from '../../core/in-pieces.js'
import type { Claim, Claims } from '../../core/ports/claims.js'
import type { Dropped, Entry, EntryPage, EntryStore, Piece, PutResult, StoreSize, Trimmed } from '../../core/ports/entry-store.js'
import type { Maybe } from '../../core/ports/maybe.js'
import type { Selection } from '../../core/ports/selection.js'
import { isSelected } from '../../core/ports/selection.js'
import { GuardedClaims } from './claims.js'
import type { Guard } from './guard.js'
import { soundness } from './soundness.js'

const nothing = { entries: 0, more: false }

/** Invalidations that a failing store did not take, at the most; with more, nothing stored before is given out. */
const mostPending = 10_000

export class GuardedEntries implements EntryStore {
  readonly #entries: EntryStore
  readonly #guard: Guard
  /** What was invalidated or removed while the store could not be told, as JSON, with when and how. */
  readonly #pending = new Map<string, { readonly selection: Selection; readonly at: number; readonly drop: boolean }>()

  readonly claims: Claims | undefined
  readonly foundIn: EntryStore['foundIn']
  readonly given: EntryStore['given']

  constructor(entries: EntryStore, guard: Guard) {
    this.#entries = entries
    this.#guard = guard
    this.claims = entries.claims && new GuardedClaims(entries.claims, guard)
    this.given = entries.given && ((...args) => this.#given(...args))
    this.foundIn = entries.foundIn && ((entry) => this.#foundIn(entry))
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

  #foundIn(entry: Entry): ReturnType<NonNullable<EntryStore['foundIn']>> {
    try {
      return this.#entries.foundIn?.(entry)
    } catch {
      return undefined
    }
  }

  /** Whoever gives an answer is not to be kept from it by its being counted. */
  #given(entry: Entry, now: number, isSaving: boolean): void {
    try {
      this.#entries.given?.(entry, now, isSaving)
    } catch {
      // it only says how often it was used
    }
  }

  put(entry: Entry, now: number, claim?: Claim): Maybe<PutResult | undefined> {
    return this.#guard.attempt<PutResult | undefined>(() => this.#entries.put(entry, now, claim), { notKept: 'trouble' })
  }

  updateTimes(key: string, times: StoredTimes): Maybe<void> {
    return this.#guard.attempt(() => this.#entries.updateTimes(key, times), undefined)
  }

  /** What the store cannot be told is kept, and counts for what is read, until it can. */
  invalidate(selection: Selection, now: number, from?: string): Maybe<Piece> {
    const none = { entries: 0, next: undefined }
    return this.#orLater<Piece>(() => this.#entries.invalidate(selection, now, from), none, { selection, at: now, drop: false })
  }

  remove(selection: Selection): Maybe<Dropped> {
    return this.#orLater<Dropped>(() => this.#entries.remove(selection), nothing, { selection, at: 0, drop: true })
  }

  trim(selection: Selection, most: number, now: number): Maybe<Trimmed> {
    return this.#guard.attemptIfOpen<Trimmed>(() => this.#entries.trim(selection, most, now), { evicted: [], more: false })
  }

  list(...args: Parameters<EntryStore['list']>): Maybe<EntryPage> {
    return this.#guard.read(() => this.#entries.list(...args))
  }

  sweep(now: number): Maybe<Dropped> {
    return this.#guard.attemptIfOpen<Dropped>(() => this.#entries.sweep(now), nothing)
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
    const { clock } = this.#guard.options
    for (const [name, { selection, at, drop }] of [...this.#pending]) {
      try {
        void this.claims?.drop(selection)
        if (drop)
          await inPieces(
            clock,
            () => this.#guard.write(() => this.#entries.remove(selection)),
            ({ more }) => more,
          )
        else
          await invalidateAll(clock, { invalidate: (...args) => this.#guard.write(() => this.#entries.invalidate(...args)) }, selection, at)
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
