import { invalidatedTimes, type StoredTimes, timesOf } from '../../core/decide/entry-times.js'
import type { Claim, Claims } from '../../core/ports/claims.js'
import type {
  Dropped,
  Entry,
  EntryPage,
  EntryStore,
  EntrySummary,
  Piece,
  PutResult,
  StoreSize,
  Trimmed,
} from '../../core/ports/entry-store.js'
import { evictedOf } from '../../core/ports/evictions.js'
import type { Selection } from '../../core/ports/selection.js'
import type { Changes } from './changes.js'
import type { IndexedDbClaims } from './claims.js'
import { bytesOfKey, type Database, type KeptEntry, type Transaction } from './database.js'
import { drop, evict, leastWorth, makeRoom, recount, remember, roomOf, totalsIn, without } from './room.js'
import { rangeOf, selected } from './selected.js'
import { UseBuffer } from './use-buffer.js'

/** Entries changed or dropped in one piece of a longer work. */
const pieceOf = 200

/** Where the browser gives no more room, this share of what there is goes. */
const shareDropped = 4

/** Everything that a change of entries may touch. */
const all = ['entries', 'bodies', 'totals', 'evicted', 'claims'] as const

export class IndexedDbEntries implements EntryStore {
  readonly #database: Database
  readonly #maxBytes: number
  readonly #claims: IndexedDbClaims | undefined
  readonly #changes: Changes
  readonly #uses: UseBuffer
  /** Dropped because the browser had no more room, and not taken off the totals yet. */
  readonly #dropped: KeptEntry[] = []

  constructor(database: Database, maxBytes: number, changes: Changes, claims: IndexedDbClaims | undefined) {
    this.#database = database
    this.#maxBytes = maxBytes
    this.#changes = changes
    this.#claims = claims
    this.#uses = new UseBuffer(database)
    database.whenFull(() => this.#makeMore().catch(() => false))
  }

  get claims(): Claims | undefined {
    return this.#claims
  }

  async get(key: string): Promise<Entry | undefined> {
    const at = bytesOfKey(key)
    const [kept, body] = await this.#database.run(['entries', 'bodies'], 'readonly', (transaction) =>
      Promise.all([transaction.objectStore('entries').get(at), transaction.objectStore('bodies').get(at)]),
    )
    if (!kept || !body) return undefined
    const { used, bytes, usage, ...entry } = kept
    this.#uses.use({ ...entry, body })
    return { ...entry, body }
  }

  used(entry: Entry): void {
    this.#uses.use(entry)
  }

  given(entry: Entry, now: number, isSaving: boolean): void {
    this.#uses.given(entry, now, isSaving)
  }

  async put(entry: Entry, now: number, claim?: Claim): Promise<PutResult | undefined> {
    try {
      return await this.#put(entry, now, claim)
    } catch (error) {
      if ((error as Error).name === 'QuotaExceededError') return { notKept: 'too-large' }
      throw error
    }
  }

  async #put(given: Entry, now: number, claim: Claim | undefined): Promise<PutResult | undefined> {
    const { memo, body, ...entry } = given
    const at = bytesOfKey(entry.key)
    const room = roomOf(entry, body.byteLength)
    let isChange = false
    const dropped = this.#dropped.splice(0)
    const work = async (transaction: Transaction<'readwrite'>): Promise<PutResult | undefined> => {
      const stores = [transaction.objectStore('entries'), transaction.objectStore('bodies'), transaction.objectStore('evicted')] as const
      const [entries, bodies, evictedKeys] = stores
      if (claim && !(await this.#claims?.store(transaction, claim))) return { notKept: 'out-of-date' }
      const [before, were, evictedBefore] = await Promise.all([entries.get(at), totalsIn(transaction), evictedKeys.get(at)])
      let totals = without(were, dropped)
      if (before) {
        isChange = true
        totals = { ...totals, entries: totals.entries - 1, bytes: totals.bytes - roomOf(before, before.bytes) }
      }
      if (room > this.#maxBytes) {
        if (before) await drop(transaction, before)
        await transaction.objectStore('totals').put(totals, 'all')
        return { notKept: 'too-large' }
      }
      const uses = totals.uses + 1
      totals = { entries: totals.entries + 1, bytes: totals.bytes + room, uses }
      const bytes = new Uint8Array(body) // its own: a view would be kept with all of what it is a view of
      await Promise.all([entries.put({ ...entry, bytes: bytes.byteLength, used: uses }, at), bodies.put(bytes, at)])
      for (const one of dropped) await remember(transaction, one, now)
      const made = await makeRoom(transaction, totals, { maxBytes: this.#maxBytes, latest: entry.key }, now)
      await transaction.objectStore('totals').put(made.totals, 'all')
      if (evictedBefore) await evictedKeys.delete(at)
      const wasEvicted = evictedBefore !== undefined && evictedBefore.freshUntil > now
      const gone = evictedOf([...dropped, ...made.dropped], now)
      const evicted = gone.length > 0 ? gone : undefined
      return wasEvicted || evicted ? { wasEvicted, evicted } : undefined
    }
    const result = await this.#database.run(all, 'readwrite', work).catch((error) => {
      this.#dropped.push(...dropped)
      throw error
    })
    if (result?.notKept === 'out-of-date') this.#dropped.push(...dropped)
    if (isChange) this.#changes.tell({ key: entry.key })
    return result
  }

  /**
   * Drops a share of what there is, where the browser gives no more room than that. It writes nothing, for which there may be no room either: what follows is
   * written with the next entry. Returns whether there was anything.
   */
  async #makeMore(): Promise<boolean> {
    const now = Date.now()
    const victims = await this.#database.runOnce(['entries', 'totals'], 'readonly', async (transaction) => {
      const { bytes } = await totalsIn(transaction)
      return leastWorth(transaction, bytes / shareDropped, now)
    })
    await this.#database.runOnce(['entries', 'bodies'], 'readwrite', (transaction) =>
      Promise.all(victims.map((victim) => drop(transaction, victim))),
    )
    this.#dropped.push(...victims)
    return victims.length > 0
  }

  async updateTimes(key: string, times: StoredTimes): Promise<void> {
    const at = bytesOfKey(key)
    await this.#database.run(['entries'], 'readwrite', async (transaction) => {
      const entries = transaction.objectStore('entries')
      const kept = await entries.get(at)
      if (kept?.storedAt === times.storedAt) await entries.put({ ...kept, ...timesOf(times) }, at)
    })
    this.#changes.tell({ key })
  }

  async invalidate(selection: Selection, now: number, from?: string): Promise<Piece> {
    const piece = await this.#database.run(['entries'], 'readwrite', async (transaction) => {
      let entries = 0
      let last: string | undefined
      for await (const { entry, update } of selected(transaction, selection, from)) {
        if (entries >= pieceOf) return { entries, next: last }
        await update({ ...entry, ...invalidatedTimes(timesOf(entry), now) })
        entries++
        last = entry.key
      }
      return { entries, next: undefined }
    })
    this.#changes.tell(selection)
    return piece
  }

  async remove(selection: Selection): Promise<Dropped> {
    const dropped = await this.#drop((transaction) => selected(transaction, selection))
    this.#changes.tell(selection)
    return dropped
  }

  async trim(selection: Selection, most: number, now: number): Promise<Trimmed> {
    await this.#uses.flush()
    const { index, range } = rangeOf(selection)
    return this.#database.run(all, 'readwrite', async (transaction) => {
      const entries = transaction.objectStore('entries')
      const count = await (index ? entries.index(index).count(range) : entries.count(range))
      const kept: KeptEntry[] = []
      if (count > most) for await (const { entry } of selected(transaction, selection)) kept.push(entry)
      const excess = kept.sort((one, other) => one.used - other.used).slice(0, Math.max(0, kept.length - most))
      let totals = await totalsIn(transaction)
      const victims = excess.slice(0, pieceOf)
      for (const victim of victims) {
        const gone = await evict(transaction, victim, now)
        totals = { ...totals, entries: totals.entries - gone.entries, bytes: totals.bytes - gone.bytes }
      }
      if (victims.length > 0) await transaction.objectStore('totals').put(totals, 'all')
      return { evicted: evictedOf(victims, now), more: excess.length > pieceOf }
    })
  }

  async list(selection: Selection, { after, most = 100 }: Parameters<EntryStore['list']>[1] = {}): Promise<EntryPage> {
    return this.#database.run(['entries'], 'readonly', async (transaction) => {
      const entries: EntrySummary[] = []
      for await (const { entry } of selected(transaction, selection, after)) {
        if (entries.length >= most) return { entries, next: entries.at(-1)?.key }
        const { used, ...summary } = entry
        entries.push(summary)
      }
      return { entries, next: undefined }
    })
  }

  sweep(now: number): Promise<Dropped> {
    return this.#drop(async function* (transaction) {
      const entries = transaction.objectStore('entries')
      for (const entry of await entries.index('keepUntil').getAll(IDBKeyRange.upperBound(now), pieceOf + 1)) yield { entry }
    })
  }

  /** Drops entries, as many as a piece has. */
  #drop(meant: (transaction: Transaction<'readwrite'>) => AsyncIterable<{ readonly entry: KeptEntry }>): Promise<Dropped> {
    return this.#database.run(['entries', 'bodies', 'totals'], 'readwrite', async (transaction) => {
      const victims: KeptEntry[] = []
      for await (const { entry } of meant(transaction)) {
        victims.push(entry)
        if (victims.length > pieceOf) break
      }
      let totals = await totalsIn(transaction)
      const some = victims.slice(0, pieceOf)
      for (const victim of some) {
        const gone = await drop(transaction, victim)
        totals = { ...totals, entries: totals.entries - gone.entries, bytes: totals.bytes - gone.bytes }
      }
      if (some.length > 0) await transaction.objectStore('totals').put(totals, 'all')
      return { entries: some.length, more: victims.length > pieceOf }
    })
  }

  async size(): Promise<StoreSize> {
    const { entries, bytes } = await this.#database.run(['totals'], 'readonly', (transaction) => totalsIn(transaction))
    return { entries, bytes }
  }

  /** For opening. */
  recount(): Promise<void> {
    return this.#database.run(['entries', 'totals'], 'readwrite', recount)
  }

  /** Writes what is not written yet; for closing. */
  async settle(): Promise<void> {
    await this.#uses.flush()
  }
}
