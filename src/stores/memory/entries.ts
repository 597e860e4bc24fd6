import { invalidatedTimes, type StoredTimes } from '../../core/decide/entry-times.js'
import type { Entry, EntryPage, EntryStore, EntrySummary, Selection, StoreSize } from '../../core/ports/entry-store.js'
import { isSelected, pageOf } from '../../core/ports/selection.js'
import { type Link, UseOrder } from './use-order.js'

interface Slot extends Link<Slot> {
  entry: Entry
  readonly bytes: number
}

export class MemoryEntries implements EntryStore {
  readonly #slots = new Map<string, Slot>()
  readonly #order = new UseOrder<Slot>()
  #bytes = 0

  constructor(
    readonly maxBytes: number,
    readonly maxEntries: number,
  ) {}

  get(key: string): Entry | undefined {
    const slot = this.#slots.get(key)
    if (slot === undefined) return undefined
    this.#order.use(slot)
    return slot.entry
  }

  put(entry: Entry): void {
    this.#drop(this.#slots.get(entry.key))
    const slot: Slot = { entry, bytes: bytesOf(entry), newer: undefined, older: undefined }
    if (slot.bytes > this.maxBytes) return
    this.#slots.set(entry.key, slot)
    this.#order.add(slot)
    this.#bytes += slot.bytes
    while (this.#bytes > this.maxBytes || this.#slots.size > this.maxEntries) this.#drop(this.#order.oldest)
  }

  updateTimes(key: string, times: StoredTimes): void {
    const slot = this.#slots.get(key)
    if (slot?.entry.storedAt === times.storedAt) slot.entry = { ...slot.entry, ...times }
  }

  invalidate(selection: Selection, now: number): void {
    for (const slot of this.#selected(selection)) slot.entry = { ...slot.entry, ...invalidatedTimes(slot.entry, now) }
  }

  remove(selection: Selection, keepNewest = 0): number {
    const slots = [...this.#selected(selection)]
    if (keepNewest > 0) slots.sort((a, b) => b.entry.storedAt - a.entry.storedAt)
    const dropped = slots.slice(keepNewest)
    for (const slot of dropped) this.#drop(slot)
    return dropped.length
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
    this.#slots.clear()
  }

  #selected(selection: Selection): Iterable<Slot> {
    if ('key' in selection) {
      const slot = this.#slots.get(selection.key)
      return slot ? [slot] : []
    }
    return [...this.#slots.values()].filter(({ entry }) => isSelected(selection, entry))
  }

  #drop(slot: Slot | undefined): void {
    if (!slot) return
    this.#slots.delete(slot.entry.key)
    this.#order.remove(slot)
    this.#bytes -= slot.bytes
  }
}

/** Bodies count twice: once as bytes, once for the decoded form that readers keep beside them. Characters count two bytes. */
function bytesOf({ key, head, body }: Entry): number {
  return 2 * (body.byteLength + key.length + head.length)
}
