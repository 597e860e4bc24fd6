import type { StoredTimes } from '../../core/decide/entry-times.js'
import type { Dropped, Entry, EntryPage, EntryStore, Evicted, Piece, PutResult, StoreSize, Trimmed } from '../../core/ports/entry-store.js'
import { evictedOf, wasFresh } from '../../core/ports/evictions.js'
import type { Selection } from '../../core/ports/selection.js'
import { isSelected } from '../../core/ports/selection.js'
import { Copies } from './copies.js'
import { EntryCopy } from './entry-copy.js'
import { EntryIndex } from './entry-index.js'
import { EvictedKeys } from './evicted-keys.js'
import { Listing } from './listing.js'
import { bytesOfEntry, type Slot } from './slot.js'

export class MemoryEntries implements EntryStore {
  readonly #copies: Copies
  #index = this.#newIndex()
  readonly #evictedKeys: EvictedKeys
  readonly #maxBytes: number
  readonly #maxEntries: number
  readonly #listing = new Listing()
  #bytes = 0
  /** Go round all slots, a few each time: for room that is needed, and for sweeping. */
  #hand: Iterator<Slot> | undefined
  #broom: Iterator<Slot> | undefined

  constructor(maxBytes: number, maxEntries: number) {
    this.#maxBytes = maxBytes
    this.#maxEntries = maxEntries
    this.#copies = new Copies(maxBytes * shareOfCopies)
    this.#evictedKeys = new EvictedKeys(Math.max(leastForEvicted, maxBytes / 20))
  }

  get(key: string): Entry | undefined {
    const slot = this.#index.get(key)
    if (slot === undefined) return undefined
    return this.#copies.of(slot, this.#index.use(slot))
  }

  given(entry: Entry, now: number, isSaving: boolean): void {
    EntryCopy.countOf(entry)?.countUse(now, isSaving)
  }

  put(entry: Entry, now: number): PutResult | undefined {
    const { key } = entry
    this.#drop(this.#index.slots.get(key))
    if (bytesOfEntry(entry) > this.#maxBytes) return { notKept: 'too-large' }
    const wasEvicted = this.#evictedKeys.take(key, now)
    this.#bytes += this.#index.add(entry).bytes
    const evicted = this.#makeRoom(now)
    return wasEvicted || evicted ? { wasEvicted, evicted } : undefined
  }

  updateTimes(key: string, times: StoredTimes): void {
    const slot = this.#index.slots.get(key)
    if (slot?.storedAt === times.storedAt) this.#index.change(slot, times)
  }

  /** At once, however many these are: an entry gets its times when it is looked at. */
  invalidate(selection: Selection, now: number): Piece {
    return { entries: this.#index.invalidate(selection, now), next: undefined }
  }

  remove(selection: Selection): Dropped {
    let entries = 0
    for (const slot of this.#index.selected(selection)) {
      if (entries >= pieceOf) return { entries, more: true }
      this.#drop(slot)
      entries++
    }
    return { entries, more: false }
  }

  trim(selection: Selection, most: number, now: number): Trimmed {
    const victims = this.#leastUsed(selection, most)
    const dropped = victims.slice(0, pieceOf).map((slot) => this.#evict(slot, now))
    return { evicted: evictedOf(dropped, now), more: victims.length > pieceOf }
  }

  list(selection: Selection, page: Parameters<EntryStore['list']>[1] = {}): EntryPage {
    const keys = () => Array.from(this.#index.selected(selection), ({ key }) => key)
    return this.#listing.page(JSON.stringify(selection), page, keys, (key) => {
      const slot = this.#index.get(key)
      return slot && isSelected(selection, slot) ? slot.summary() : undefined
    })
  }

  sweep(now: number): Dropped {
    let entries = 0
    this.#broom ??= this.#index.slots.values()
    for (let i = 0; i < pieceOf; i++) {
      const { done, value } = this.#broom.next()
      if (done) {
        this.#broom = undefined
        return { entries, more: false }
      }
      if (value.keepUntil > now) continue
      this.#drop(value)
      entries++
    }
    return { entries, more: true }
  }

  size(): StoreSize {
    return { entries: this.#index.slots.size, bytes: this.#bytes }
  }

  clear(): void {
    this.#listing.forget()
    this.#index = this.#newIndex()
    this.#bytes = 0
  }

  #newIndex(): EntryIndex {
    return new EntryIndex((slot) => this.#copies.drop(slot))
  }

  /** What of a selection goes where only so many are to stay, what was used least recently first: one more than goes in a piece, at the most. */
  #leastUsed(selection: Selection, most: number): Slot[] {
    if ('endpoint' in selection && selection.endpoint !== undefined) {
      const [group] = this.#index.groups(selection)
      const victims: Slot[] = []
      const excess = Math.min(pieceOf + 1, (group?.size ?? 0) - most)
      for (const slot of group?.order ?? []) {
        if (victims.length >= excess) break
        victims.push(slot)
      }
      return victims
    }
    const slots = [...this.#index.selected(selection)]
    return slots.length <= most ? [] : slots.sort((one, other) => one.used - other.used).slice(0, slots.length - most)
  }

  #makeRoom(now: number): readonly Evicted[] | undefined {
    let dropped: Slot[] | undefined
    while (this.#bytes > this.#maxBytes || this.#index.slots.size > this.#maxEntries) {
      dropped ??= []
      dropped.push(this.#evict(this.#worthless(now) ?? (this.#index.oldest as Slot), now))
    }
    const evicted = dropped && evictedOf(dropped, now)
    return evicted?.length ? evicted : undefined
  }

  /** One of the next few slots whose entry is not worth keeping any more, if there is one. */
  #worthless(now: number): Slot | undefined {
    for (let i = 0; i < handSteps; i++) {
      this.#hand ??= this.#index.slots.values()
      const { done, value } = this.#hand.next()
      if (done) this.#hand = undefined
      else if (value.keepUntil <= now) return value
    }
    return undefined
  }

  #evict(slot: Slot, now: number): Slot {
    const { key, freshUntil } = this.#index.current(slot)
    if (wasFresh(slot, now)) this.#evictedKeys.add(key, freshUntil)
    this.#drop(slot)
    return slot
  }

  #drop(slot: Slot | undefined): void {
    if (!slot) return
    this.#index.drop(slot)
    this.#bytes -= slot.bytes
  }
}

/** Entries that are looked at or dropped in one piece of a longer work. */
const pieceOf = 2_000

/** How many slots are looked at for one whose entry is not worth keeping, before what was used least recently goes. */
const handSteps = 8

/** The room for keys of evicted entries is a twentieth of the store's, and at least this, bytes. */
const leastForEvicted = 200_000

/** Of the room of the store, entries at hand have so much besides. */
const shareOfCopies = 1 / 30
