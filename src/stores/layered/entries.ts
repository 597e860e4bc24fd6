import type { StoredTimes } from '../../core/decide/entry-times.js'
import type { FoundIn } from '../../core/decide/layer.js'
import type { Claim, Claims } from '../../core/ports/claims.js'
import type { Dropped, Entry, EntryPage, EntryStore, Piece, PutResult, StoreSize, Trimmed } from '../../core/ports/entry-store.js'
import type { Maybe } from '../../core/ports/maybe.js'
import type { Selection } from '../../core/ports/selection.js'
import type { Store } from '../../core/ports/store.js'
import { LayeredClaims } from './claims.js'
import { NearLifetimes } from './near-lifetimes.js'

interface UnderWay {
  readonly key: string
  isChanged: boolean
}

const copied: FoundIn = { layer: 'near', reread: false }
const readAfar: FoundIn = { layer: 'far', reread: false }
const rereadAfar: FoundIn = { layer: 'far', reread: true }

/** Entries of a far store, with copies in a near one, each for a while. */
export class LayeredEntries implements EntryStore {
  /** In memory: it does everything at once. */
  readonly #near: Store
  readonly #far: Store
  readonly #lifetimes: NearLifetimes
  /** What is being read from or written to the far store, and whether it has changed meanwhile: then there is no copy of it. */
  readonly #underWay = new Set<UnderWay>()

  readonly #fromAfar = new WeakMap<Entry, FoundIn>()

  readonly claims: Claims | undefined

  constructor(near: Store, far: Store, nearForMs: number) {
    this.#near = near
    this.#far = far
    this.#lifetimes = new NearLifetimes(nearForMs)
    this.claims = far.entries.claims && new LayeredClaims(far.entries.claims, (key) => this.changed({ key }))
  }

  get(key: string): Maybe<Entry | undefined> {
    if (this.#lifetimes.holds(key, performance.now())) {
      const found = this.#near.entries.get(key)
      if (!(found instanceof Promise) && found !== undefined) {
        this.#far.entries.used?.(found)
        return found
      }
    }
    const before = this.#lifetimes.hasRunOut(key, performance.now()) ? (this.#near.entries.get(key) as Entry | undefined) : undefined
    return this.#whileUnchanged(
      key,
      () => this.#far.entries.get(key),
      (entry) => {
        if (entry) this.#fromAfar.set(entry, entry.storedAt === before?.storedAt ? rereadAfar : readAfar)
        return entry
      },
    )
  }

  /** What the near store gives is its own copy, never an object that was read from afar. */
  foundIn(entry: Entry): FoundIn {
    return this.#fromAfar.get(entry) ?? copied
  }

  /** Does something about a key afar; keeps a copy of the entry that it shows, unless that has changed meanwhile. */
  #whileUnchanged<T>(key: string, work: () => Maybe<T>, shows: (done: T) => Entry | undefined): Maybe<T> {
    const one: UnderWay = { key, isChanged: false }
    const over = (done: T): T => {
      const entry = shows(done)
      if (entry && !one.isChanged) this.#copy(entry)
      this.#underWay.delete(one)
      return done
    }
    this.#underWay.add(one)
    try {
      const done = work()
      if (!(done instanceof Promise)) return over(done)
      return done.then(over, (error) => {
        this.#underWay.delete(one)
        throw error
      })
    } catch (error) {
      this.#underWay.delete(one)
      throw error
    }
  }

  /** A copy that cannot be kept is none. */
  #copy(entry: Entry): void {
    const { key } = entry
    const done = this.#near.entries.put(entry, entry.storedAt)
    if (!(done instanceof Promise) && done?.notKept) this.#lifetimes.end(key)
    else this.#lifetimes.begin(key, performance.now())
  }

  given(entry: Entry, now: number, isSaving: boolean): void {
    this.#far.entries.given?.(entry, now, isSaving)
  }

  put(entry: Entry, now: number, claim?: Claim): Maybe<PutResult | undefined> {
    this.changed({ key: entry.key })
    return this.#whileUnchanged(
      entry.key,
      () => this.#far.entries.put(entry, now, claim),
      (result) => (result?.notKept ? undefined : entry),
    )
  }

  updateTimes(key: string, times: StoredTimes): Maybe<void> {
    this.changed({ key })
    return this.#far.entries.updateTimes(key, times)
  }

  invalidate(selection: Selection, now: number, from?: string): Maybe<Piece> {
    this.changed(selection)
    return this.#after(this.#far.entries.invalidate(selection, now, from), selection)
  }

  remove(selection: Selection): Maybe<Dropped> {
    this.changed(selection)
    return this.#after(this.#far.entries.remove(selection), selection)
  }

  trim(selection: Selection, most: number, now: number): Maybe<Trimmed> {
    return this.#after(this.#far.entries.trim(selection, most, now), selection)
  }

  list(...args: Parameters<EntryStore['list']>): Maybe<EntryPage> {
    const page = this.#far.entries.list(...args)
    return page instanceof Promise ? page.then((one) => this.#withLayers(one)) : this.#withLayers(page)
  }

  #withLayers({ entries, next }: EntryPage): EntryPage {
    const now = performance.now()
    return { entries: entries.map((entry) => ({ ...entry, layer: this.#lifetimes.holds(entry.key, now) ? 'near' : 'far' })), next }
  }

  sweep(now: number): Maybe<Dropped> {
    return this.#after(this.#far.entries.sweep(now), { all: true })
  }

  size(): Maybe<StoreSize> {
    return this.#far.entries.size()
  }

  /** Copies of what a selection means are given no more. */
  changed(selection: Selection): void {
    if ('key' in selection) {
      this.#lifetimes.end(selection.key)
      for (const one of this.#underWay) if (one.key === selection.key) one.isChanged = true
      return
    }
    if ('all' in selection) this.#lifetimes.clear()
    else while ((this.#near.entries.remove(selection) as Dropped).more);
    for (const one of this.#underWay) one.isChanged = true
  }

  /** What was read while it changed may be of the time before. */
  #after<T>(done: Maybe<T>, selection: Selection): Maybe<T> {
    const changed = (result: T): T => {
      this.changed(selection)
      return result
    }
    return done instanceof Promise ? done.then(changed) : changed(done)
  }
}
