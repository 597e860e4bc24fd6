import type { StoredTimes } from '../../core/decide/entry-times.js'
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
import type { Maybe } from '../../core/ports/maybe.js'
import type { Selection } from '../../core/ports/selection.js'
import { PackedClaims } from './claims.js'
import { compressed, uncompressed, uncompressedSummary } from './compression.js'
import { LastRead } from './last-read.js'
import type { Packing } from './options.js'
import { type Sealing, sealedBy } from './sealing.js'
import type { Sealings } from './sealings.js'

/** Entries of another store, whose bodies are compressed there, or which are encrypted there, or both. */
export class PackedEntries implements EntryStore {
  readonly #inner: EntryStore
  readonly #packing: Packing
  readonly #sealings: Sealings
  readonly #lastRead = new LastRead()
  readonly #innerOf = new WeakMap<Entry, Entry>()

  /** Fulfilled once the latest change that had to wait has been given to the inner store: those after it come after it there. */
  #waiting: Promise<void> | undefined

  readonly claims: Claims | undefined
  readonly foundIn: EntryStore['foundIn']
  readonly given: EntryStore['given']

  constructor(inner: EntryStore, packing: Packing, sealings: Sealings) {
    this.#inner = inner
    this.#packing = packing
    this.#sealings = sealings
    this.claims = inner.claims && (sealings.isNone ? inner.claims : new PackedClaims(inner.claims, sealings))
    this.foundIn = inner.foundIn && ((entry) => (inner as Required<EntryStore>).foundIn(this.#innerEntry(entry)))
    this.given = inner.given && ((entry, ...how) => inner.given?.(this.#innerEntry(entry), ...how))
  }

  get(key: string): Maybe<Entry | undefined> {
    if (!this.#sealings.isNone) return this.#getSealed(key)
    const found = this.#inner.get(key)
    return found instanceof Promise ? found.then((entry) => this.#read(entry)) : this.#read(found)
  }

  /** By the secret that encrypts now, else by the ones before. */
  async #getSealed(key: string): Promise<Entry | undefined> {
    for (const sealing of this.#sealings.all) {
      const found = await this.#inner.get(this.#sealings.digestBy(sealing, key))
      if (found) return this.#read(found, sealing)
    }
    return undefined
  }

  /** What cannot be read is given without what makes it an entry: whoever uses it sees that, and drops it. What another secret has sealed is not there. */
  #read(entry: Entry | undefined, sealing?: Sealing): Maybe<Entry | undefined> {
    if (entry === undefined) return undefined
    const known = this.#lastRead.of(entry)
    if (known) return known
    const by = sealedBy(entry.head)
    if (by !== undefined) return by === sealing?.digests.id ? this.#open(entry, sealing) : undefined
    if (sealing) return spoilt(entry, entry.key) // that nobody has sealed
    const keep = (whole: Entry) => this.#keep(entry, whole)
    try {
      const whole = uncompressed(entry)
      return whole instanceof Promise ? whole.then(keep, () => spoilt(entry, entry.key)) : keep(whole)
    } catch {
      return spoilt(entry, entry.key)
    }
  }

  async #open(entry: Entry, sealing: Sealing): Promise<Entry> {
    try {
      return this.#keep(entry, await uncompressed(await sealing.opened(entry)))
    } catch {
      return spoilt(entry, this.#sealings.keyOf(entry.key) ?? '')
    }
  }

  #keep(entry: Entry, whole: Entry): Entry {
    if (whole === entry) return entry
    this.#lastRead.keep(entry, whole)
    this.#innerOf.set(whole, entry)
    return whole
  }

  used(entry: Entry): void {
    this.#inner.used?.(this.#innerEntry(entry))
  }

  /** The entry as the inner store knows it; of a copy of one, what tells which it is. */
  #innerEntry(entry: Entry): Entry {
    const inner = this.#innerOf.get(entry)
    return inner ?? (this.#sealings.isNone ? entry : { ...entry, key: this.#sealings.digest(entry.key) })
  }

  put(entry: Entry, now: number, claim?: Claim): Maybe<PutResult | undefined> {
    const packed = compressed(entry, this.#packing)
    const { current } = this.#sealings
    if (!current) return this.#inOrder(packed, (one) => this.#inner.put(one, now, claim))
    const sealed = Promise.resolve(packed).then((one) => current.sealed(one, entry.body.byteLength))
    return this.#inOrder(sealed, (one) => this.#putSealed(entry, one, now, claim))
  }

  /** Has the inner store do something once that is ready, in the order in which it was asked for. */
  #inOrder<R, T>(ready: Maybe<R>, work: (ready: R) => Maybe<T>): Maybe<T> {
    const before = this.#waiting
    if (!(ready instanceof Promise) && before === undefined) return work(ready)
    let begun = () => {}
    const mine = new Promise<void>((resolve) => {
      begun = resolve
    })
    this.#waiting = mine
    const over = () => {
      begun()
      if (this.#waiting === mine) this.#waiting = undefined
    }
    return (async () => {
      try {
        const its = await ready
        await before
        const done = work(its)
        over()
        return await done
      } finally {
        over()
      }
    })()
  }

  async #putSealed(entry: Entry, sealed: Entry, now: number, claim: Claim | undefined): Promise<PutResult | undefined> {
    const result = await this.#inner.put(sealed, now, claim && { ...claim, key: this.#sealings.digest(claim.key) })
    if (result?.notKept === 'out-of-date' || result?.notKept === 'trouble') return result
    for (const key of this.#sealings.olderDigests(entry.key)) await this.#inner.remove({ key })
    return result
  }

  updateTimes(key: string, times: StoredTimes): Maybe<void> {
    const each = async (one: Selection) => void (await this.#inner.updateTimes((one as { key: string }).key, times))
    return this.#inOrder(undefined, () => (this.#sealings.isNone ? this.#inner.updateTimes(key, times) : this.#eachOf({ key }, each)))
  }

  async #eachOf(selection: Selection, work: (one: Selection) => Promise<void>): Promise<void> {
    for (const one of this.#sealings.selections(selection)) await work(one)
  }

  invalidate(selection: Selection, now: number, from?: string): Maybe<Piece> {
    return this.#inOrder(undefined, () =>
      this.#sealings.isNone ? this.#inner.invalidate(selection, now, from) : this.#invalidateSealed(selection, now, from),
    )
  }

  /** `from`: of which secret, and from where on. */
  async #invalidateSealed(selection: Selection, now: number, from: string | undefined): Promise<Piece> {
    const all = this.#sealings.selections(selection)
    let [i, start] = from === undefined ? [0, undefined] : (JSON.parse(from) as [number, string | undefined])
    let entries = 0
    for (; i < all.length; i++, start = undefined) {
      const piece = await this.#inner.invalidate(all[i] as Selection, now, start)
      entries += piece.entries
      if (piece.next !== undefined) return { entries, next: JSON.stringify([i, piece.next]) }
    }
    return { entries, next: undefined }
  }

  remove(selection: Selection): Maybe<Dropped> {
    return this.#inOrder(undefined, () => (this.#sealings.isNone ? this.#inner.remove(selection) : this.#removeSealed(selection)))
  }

  async #removeSealed(selection: Selection): Promise<Dropped> {
    let entries = 0
    let more = false
    await this.#eachOf(selection, async (one) => {
      const dropped = await this.#inner.remove(one)
      entries += dropped.entries
      more ||= dropped.more
    })
    return { entries, more }
  }

  trim(selection: Selection, most: number, now: number): Maybe<Trimmed> {
    return this.#inOrder(undefined, () =>
      this.#sealings.isNone ? this.#inner.trim(selection, most, now) : this.#trimSealed(selection, most, now),
    )
  }

  async #trimSealed(selection: Selection, most: number, now: number): Promise<Trimmed> {
    const trimmed: Trimmed[] = []
    await this.#eachOf(selection, async (one) => void trimmed.push(await this.#inner.trim(one, most, now)))
    return { evicted: trimmed.flatMap(({ evicted }) => evicted), more: trimmed.some(({ more }) => more) }
  }

  /** Of sealed entries in the order of their digests; what cannot be opened is left out. */
  list(selection: Selection, page?: Parameters<EntryStore['list']>[1]): Maybe<EntryPage> {
    if (!this.#sealings.isNone) return this.#listSealed(selection, page)
    const plain = ({ entries, next }: EntryPage): EntryPage => ({
      entries: entries.filter(({ head }) => sealedBy(head) === undefined).map(uncompressedSummary),
      next,
    })
    const listed = this.#inner.list(selection, page)
    return listed instanceof Promise ? listed.then(plain) : plain(listed)
  }

  async #listSealed(selection: Selection, { after, most }: NonNullable<Parameters<EntryStore['list']>[1]> = {}): Promise<EntryPage> {
    const all = this.#sealings.selections(selection)
    let [i, start] = after === undefined ? [0, undefined] : (JSON.parse(after) as [number, string | undefined])
    for (; i < all.length; i++, start = undefined) {
      for (;;) {
        const { entries, next } = await this.#inner.list(all[i] as Selection, { after: start, ...(most !== undefined && { most }) })
        const opened = (await Promise.all(entries.map((entry) => this.#opens(entry)))).filter((one) => one !== undefined)
        const goesOn = next !== undefined ? [i, next] : i + 1 < all.length ? [i + 1] : undefined
        if (opened.length > 0) return { entries: opened, next: goesOn && JSON.stringify(goesOn) }
        if (next === undefined) break
        start = next
      }
    }
    return { entries: [], next: undefined }
  }

  async #opens(entry: EntrySummary): Promise<EntrySummary | undefined> {
    const sealing = this.#sealings.of(sealedBy(entry.head))
    if (!sealing) return undefined
    try {
      const opened = await sealing.openedSummary(entry)
      return { ...uncompressedSummary(opened), bytes: opened.bytes }
    } catch {
      return undefined
    }
  }

  sweep(now: number): Maybe<Dropped> {
    return this.#inner.sweep(now)
  }

  size(): Maybe<StoreSize> {
    return this.#inner.size()
  }
}

function spoilt({ provider, endpoint }: Entry, key: string): Entry {
  return { key, provider, endpoint } as Entry
}
