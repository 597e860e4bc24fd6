import { outOfDate, type StoredTimes } from '../../core/decide/entry-times.js'
import { newestLike, sameFacts } from '../../core/ledger/facts-in-force.js'
import { type BillingFacts, type Grain, grains, type LedgerRow } from '../../core/ledger/ledger-row.js'
import { type StoredTally, Tally } from '../../core/ledger/tally.js'
import type { Entry, EntryGroup, LedgerSlice, SharedRecord, Store } from '../../core/ports/store.js'
import { type Link, UseOrder } from './use-order.js'

export interface MemoryStoreOptions {
  /** Bytes of bodies, keys and header fields kept at the most. Default 64 MiB. An answer larger than this is not kept. */
  readonly maxBytes?: number
  /** Entries kept at the most. Default 10,000. */
  readonly maxEntries?: number
}

/** A store in this process's memory; what was used least recently goes first. Gone when the process ends. */
export function memoryStore({ maxBytes = 64 * 1024 * 1024, maxEntries = 10_000 }: MemoryStoreOptions = {}): Store {
  return new MemoryStore(maxBytes, maxEntries)
}

interface Slot extends Link<Slot> {
  entry: Entry
  readonly bytes: number
}

class MemoryStore implements Store {
  readonly #slots = new Map<string, Slot>()
  readonly #order = new UseOrder<Slot>()
  /** With tallies as JSON, which takes a tenth of the room. */
  readonly #ledger = new Map<string, KeptRow>()
  readonly #facts: BillingFacts[] = []
  readonly #records = new Map<string, SharedRecord>()
  #bytes = 0

  constructor(
    readonly maxBytes: number,
    readonly maxEntries: number,
  ) {}

  open(): void {}

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

  invalidate(prefix: string, now: number): void {
    for (const [key, slot] of this.#slots) {
      const covered = prefix === '' || (key.startsWith(prefix) && (key.length === prefix.length || key[prefix.length] === ' '))
      if (covered) slot.entry = { ...slot.entry, ...outOfDate(slot.entry, now) }
    }
  }

  remove(key: string): void {
    this.#drop(this.#slots.get(key))
  }

  trim(group: EntryGroup, most: number): number {
    const isIn = (entry: Entry) =>
      'variantsOf' in group
        ? entry.key.startsWith(`${group.variantsOf} `)
        : entry.provider === group.provider && entry.endpoint === group.endpoint
    const slots = [...this.#slots.values()].filter(({ entry }) => isIn(entry)).sort((a, b) => b.entry.storedAt - a.entry.storedAt)
    for (const slot of slots.slice(most)) this.#drop(slot)
    return Math.max(0, slots.length - most)
  }

  update(name: string, now: number, change: (value: string | undefined) => SharedRecord | undefined): void {
    const kept = this.#records.get(name)
    const next = change(kept && kept.keepUntil > now ? kept.value : undefined)
    if (next) this.#records.set(name, next)
  }

  records(prefix: string, now: number): ReadonlyMap<string, string> {
    const kept = [...this.#records].filter(([name, { keepUntil }]) => name.startsWith(prefix) && keepUntil > now)
    return new Map(kept.map(([name, { value }]) => [name, value]))
  }

  sweep(now: number): number {
    for (const [name, { keepUntil }] of this.#records) if (keepUntil <= now) this.#records.delete(name)
    const dead = [...this.#slots.values()].filter(({ entry }) => entry.keepUntil <= now)
    for (const slot of dead) this.#drop(slot)
    return dead.length
  }

  addToLedger(rows: readonly LedgerRow[]): void {
    for (const row of rows) {
      const place = placeOf(row)
      const known = this.#ledger.get(place)
      const sum = known ? Tally.from(JSON.parse(known.tally) as StoredTally) : new Tally()
      sum.merge(row.tally)
      this.#ledger.set(place, { ...row, tally: JSON.stringify(sum) })
    }
  }

  #rows(wanted: (row: KeptRow) => boolean): LedgerRow[] {
    return [...this.#ledger.values()].filter(wanted).map((row) => ({ ...row, tally: Tally.from(JSON.parse(row.tally) as StoredTally) }))
  }

  readLedger(since: number, until: number): LedgerRow[] {
    return this.#rows(({ bucket, isDetail }) => !isDetail && bucket >= since && bucket < until)
  }

  readDetails(of: Grain, since: number, until: number): LedgerRow[] {
    return this.#rows(({ bucket, grain, isDetail }) => isDetail === true && grain === of && bucket >= since && bucket < until)
  }

  dropDetails(grain: Grain, until: number): void {
    for (const row of this.readDetails(grain, Number.NEGATIVE_INFINITY, until)) this.#ledger.delete(placeOf(row))
  }

  coarsenLedger(until: number, grain: Grain, slice: LedgerSlice, change: (rows: LedgerRow[]) => readonly LedgerRow[]): boolean {
    const finer = grains[grains.indexOf(grain) - 1]
    const isFiner = (row: KeptRow) => !row.isDetail && row.bucket < until && row.grain === finer
    let oldest = Number.POSITIVE_INFINITY
    for (const row of this.#ledger.values()) if (row.bucket < oldest && isFiner(row)) oldest = row.bucket
    if (oldest >= until) return false
    const { start, end } = slice(oldest)
    const rows = this.#rows((row) => row.bucket >= start && row.bucket < end && isFiner(row))
    const coarse = change(rows)
    for (const row of rows) this.#ledger.delete(placeOf(row))
    this.addToLedger(coarse)
    return true
  }

  addFacts(facts: BillingFacts): void {
    const newest = newestLike(this.#facts, facts)
    if (!newest || !sameFacts(newest, facts)) this.#facts.push(facts)
  }

  readFacts(): BillingFacts[] {
    return [...this.#facts]
  }

  size() {
    return { entries: this.#slots.size, bytes: this.#bytes }
  }

  close(): void {
    this.#slots.clear()
  }

  #drop(slot: Slot | undefined): void {
    if (!slot) return
    this.#slots.delete(slot.entry.key)
    this.#order.remove(slot)
    this.#bytes -= slot.bytes
  }
}

type KeptRow = Omit<LedgerRow, 'tally'> & { readonly tally: string }

function placeOf({ bucket, grain, isDetail = false, mode, provider, endpoint }: LedgerRow): string {
  return JSON.stringify([bucket, grain, isDetail, mode, provider, endpoint])
}

/** Bodies count twice: once as bytes, once for the decoded form that readers keep beside them. Characters count two bytes. */
function bytesOf({ key, head, body }: Entry): number {
  return 2 * (body.byteLength + key.length + head.length)
}
