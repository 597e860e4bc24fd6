import { invalidatedTimes, type StoredTimes } from '../../core/decide/entry-times.js'
import type { Entry, EntryPage, EntryStore, EntrySummary, Evicted, PutResult, Selection, StoreSize } from '../../core/ports/entry-store.js'
import { evictedOf, isSelected, pageOf, wasFresh } from '../../core/ports/selection.js'
import { EvictedKeys } from './evicted-keys.js'
import { type Link, UseOrder } from './use-order.js'

interface Slot extends Link<Slot> {
  entry: Entry
  readonly bytes: number
}

export class MemoryEntries implements EntryStore {
  readonly #slots = new Map<string, Slot>()
  readonly #order = new UseOrder<Slot>()
  readonly #evictedKeys: EvictedKeys
  readonly #maxBytes: number
  readonly #maxEntries: number
  #bytes = 0
  /** Goes round all slots, a few each time that room is needed. */
  #hand: Iterator<Slot> | undefined

  constructor(maxBytes: number, maxEntries: number) {
    this.#maxBytes = maxBytes
    this.#maxEntries = maxEntries
    this.#evictedKeys = new EvictedKeys(Math.max(leastForEvicted, maxBytes / 20))
  }

  get(key: string): Entry | undefined {
    const slot = this.#slots.get(key)
    if (slot === undefined) return undefined
    this.#order.use(slot)
    return slot.entry
  }

  put(entry: Entry, now: number): PutResult | undefined {
    this.#drop(this.#slots.get(entry.key))
    const slot: Slot = { entry, bytes: bytesOf(entry), newer: undefined, older: undefined }
    if (slot.bytes > this.#maxBytes) return { notKept: 'too-large' }
    const wasEvicted = this.#evictedKeys.take(entry.key, now)
    this.#slots.set(entry.key, slot)
    this.#order.add(slot)
    this.#bytes += slot.bytes
    const evicted = this.#makeRoom(now)
    return wasEvicted || evicted ? { wasEvicted, evicted } : undefined
  }

  updateTimes(key: string, times: StoredTimes): void {
    const slot = this.#slots.get(key)
    if (slot?.entry.storedAt === times.storedAt) slot.entry = { ...slot.entry, ...times }
  }

  invalidate(selection: Selection, now: number): void {
    for (const slot of this.#selected(selection)) slot.entry = { ...slot.entry, ...invalidatedTimes(slot.entry, now) }
  }

  remove(selection: Selection): number {
    const slots = [...this.#selected(selection)]
    for (const slot of slots) this.#drop(slot)
    return slots.length
  }

  trim(selection: Selection, most: number, now: number): readonly Evicted[] {
    const slots = [...this.#order].filter(({ entry }) => isSelected(selection, entry))
    const dropped = slots.slice(0, Math.max(0, slots.length - most))
    return evictedOf(
      dropped.map((slot) => this.#evict(slot, now)),
      now,
    )
  }

  list(selection: Selection, page?: Parameters<EntryStore['list']>[1]): EntryPage {
    return pageOf(
      Array.from(this.#selected(selection), ({ entry }): EntrySummary => {
        const { body, memo: _, ...rest } = entry
        return { ...rest, bytes: body.byteLength }
      }),
      page,
    )
  }

  sweep(now: number): number {
    const dead = [...this.#slots.values()].filter(({ entry }) => entry.keepUntil <= now)
    for (const slot of dead) this.#drop(slot)
    return dead.length
  }

  size(): StoreSize {
    return { entries: this.#slots.size, bytes: this.#bytes }
  }

  clear(): void {
    for (const slot of [...this.#slots.values()]) this.#drop(slot)
  }

  #selected(selection: Selection): Iterable<Slot> {
    if ('key' in selection) {
      const slot = this.#slots.get(selection.key)
      return slot ? [slot] : []
    }
    return [...this.#slots.values()].filter(({ entry }) => isSelected(selection, entry))
  }

  #makeRoom(now: number): readonly Evicted[] | undefined {
    let dropped: Entry[] | undefined
    while (this.#bytes > this.#maxBytes || this.#slots.size > this.#maxEntries) {
      dropped ??= []
      dropped.push(this.#evict(this.#worthless(now) ?? (this.#order.oldest as Slot), now))
    }
    const evicted = dropped && evictedOf(dropped, now)
    return evicted?.length ? evicted : undefined
  }

  /** One of the next few slots whose entry is not worth keeping any more, if there is one. */
  #worthless(now: number): Slot | undefined {
    for (let i = 0; i < handSteps; i++) {
      this.#hand ??= this.#slots.values()
      const { done, value } = this.#hand.next()
      if (done) this.#hand = undefined
      else if (value.entry.keepUntil <= now) return value
    }
    return undefined
  }

  #evict(slot: Slot, now: number): Entry {
    const { entry } = slot
    if (wasFresh(entry, now)) this.#evictedKeys.add(entry.key, entry.freshUntil)
    this.#drop(slot)
    return entry
  }

  #drop(slot: Slot | undefined): void {
    if (!slot) return
    this.#slots.delete(slot.entry.key)
    this.#order.remove(slot)
    this.#bytes -= slot.bytes
  }
}

/** How many slots are looked at for one whose entry is not worth keeping, before what was used least recently goes. */
const handSteps = 8

/** The room for keys of evicted entries is a twentieth of the store's, and at least this, bytes. */
const leastForEvicted = 200_000

/** What an entry takes beside its key, head and body, bytes. */
const entryOverhead = 400

/** Bodies count twice: once as bytes, once for the decoded form that readers keep beside them. Characters count two bytes. */
function bytesOf({ key, head, body }: Entry): number {
  return 2 * (body.byteLength + key.length + head.length) + entryOverhead
}
