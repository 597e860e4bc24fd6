import type { StoredTimes } from '../../core/decide/entry-times.js'
import type { Claim } from '../../core/ports/claims.js'
import { byteOrder } from '../../core/ports/entry-pages.js'
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
import { RedisClaims } from './claims.js'
import {
  entryFields,
  entryOf,
  jsonText,
  labelsText,
  type Meant,
  meantBy,
  ofAccount,
  pairs,
  putParts,
  rowLength,
  summaryOf,
  timesOfText,
  timesText,
} from './entry-form.js'
import {
  dropScript,
  invalidateScript,
  listScript,
  oldestScript,
  putScript,
  removeScript,
  sweepScript,
  timesScript,
  useScript,
} from './entry-scripts.js'
import type { Part, RedisLink, Script } from './link.js'
import { allSlots, type Places, slotOf } from './places.js'
import { SameTurn } from './same-turn.js'
import { UseBuffer } from './use-buffer.js'

/** Entries of a slot that one piece of a longer work changes or drops. */
const pieceOf = 50

/** Entries listed of a slot at once: its share of so many pages, for the slots do not end at the same key. */
const listedAtLeast = 2
const leastListed = 8
const mostListed = 200

/** Entries, each a hash that the server drops when it runs out, and what finds them. */
export class RedisEntries implements EntryStore {
  readonly #link: RedisLink
  readonly #places: Places
  readonly #readOnly: boolean
  readonly #gets = new SameTurn((key) => this.#get(key))
  readonly #uses = new UseBuffer((slot, used) => this.#run(slot, useScript, used))

  readonly claims: RedisClaims

  constructor(link: RedisLink, places: Places, readOnly: boolean) {
    this.#link = link
    this.#places = places
    this.#readOnly = readOnly
    this.claims = new RedisClaims(link, places)
  }

  get(key: string): Promise<Entry | undefined> {
    return this.#gets.get(key)
  }

  async #get(key: string): Promise<Entry | undefined> {
    const place = `${this.#places.entries(slotOf(key))}entry:${key}`
    const fields = await this.#link.fields(place, entryFields)
    const entry = entryOf(key, fields)
    if (entry && !this.#readOnly) this.#uses.use(entry)
    return entry
  }

  used(entry: Entry): void {
    if (!this.#readOnly) this.#uses.use(entry)
  }

  given(entry: Entry, now: number, isSaving: boolean): void {
    if (!this.#readOnly) this.#uses.given(entry, now, isSaving)
  }

  /** An entry of another slot than its claim is stored in a step of its own. */
  async put(entry: Entry, now: number, claim?: Claim): Promise<PutResult | undefined> {
    const isApart = claim !== undefined && slotOf(claim.key) !== slotOf(entry.key)
    if (isApart && !(await this.claims.holds(claim))) return { notKept: 'out-of-date' }
    const isKept = await this.#put(entry, now, isApart ? undefined : claim)
    if (!isKept) return { notKept: 'out-of-date' }
    if (isApart) await this.claims.end(claim, 'over')
    else if (claim) this.claims.stored(claim)
    return undefined
  }

  async #put(entry: Entry, now: number, claim: Claim | undefined): Promise<boolean> {
    const { labels, price } = entry
    const done = await this.#run(slotOf(entry.key), putScript, [
      ...putParts(entry, now),
      this.#places.changes,
      ...[claim?.key ?? '', claim?.token ?? '', labelsText(labels), jsonText(price)],
    ])
    return done === 1
  }

  async updateTimes(key: string, times: StoredTimes): Promise<void> {
    await this.#run(slotOf(key), timesScript, [key, timesText(times), String(times.keepUntil), this.#places.changes])
  }

  /** In all slots at once; `from` says of each where to go on. */
  async invalidate(selection: Selection, now: number, from?: string): Promise<Piece> {
    const { kind, name, slots } = meantBy(selection)
    const left = from === undefined ? slots.map((slot) => [slot, '', ''] as const) : (JSON.parse(from) as [number, string, string][])
    let entries = 0
    const next: (readonly [slot: number, account: string, after: string])[] = []
    await Promise.all(
      left.map(async ([slot, account, after]) => {
        const args = [kind, name, account, after, String(pieceOf), String(now)]
        const [count, goOn, place, more] = (await this.#run(slot, invalidateScript, args)) as [number, string, string, number]
        entries += count
        if (more === 1) next.push([slot, goOn, place])
      }),
    )
    await this.#tell(selection)
    return { entries, next: next.length > 0 ? JSON.stringify(next) : undefined }
  }

  /** Tells all who listen that what a selection means has changed. */
  async #tell(selection: Selection): Promise<void> {
    await this.#link.send(this.#places.changes, ['PUBLISH', this.#places.changes, JSON.stringify(selection)])
  }

  async remove(selection: Selection): Promise<Dropped> {
    const { kind, name, slots } = meantBy(selection)
    const dropped = await this.#dropped(slots, removeScript, [kind, name, String(pieceOf)])
    await this.#tell(selection)
    return dropped
  }

  async trim(selection: Selection, most: number, now: number): Promise<Trimmed> {
    await this.#uses.flush()
    const meant = meantBy(selection)
    const { count, oldest } = await this.#oldest(meant)
    const excess = Math.min(pieceOf, count - most)
    if (excess <= 0) return { evicted: [], more: false }
    const bySlot = new Map<number, string[]>()
    for (const { slot, key } of oldest.sort((one, other) => one.used - other.used).slice(0, excess))
      bySlot.set(slot, [...(bySlot.get(slot) ?? []), key])
    const dropped = await Promise.all([...bySlot].map(([slot, keys]) => this.#run(slot, dropScript, keys)))
    const were = dropped.flatMap((one) => pairs(one as string[]))
    const evicted = evictedOf(
      were.map(([account, times]) => ({ ...ofAccount(account), ...timesOfText(times) })),
      now,
    )
    return { evicted, more: count - excess > most && were.length > 0 }
  }

  /** How many entries there are of a selection, and those used least recently. */
  async #oldest({ kind, name, slots }: Meant): Promise<{ count: number; oldest: { slot: number; key: string; used: number }[] }> {
    let count = 0
    const oldest: { slot: number; key: string; used: number }[] = []
    await Promise.all(
      slots.map(async (slot) => {
        const [number, ...rest] = (await this.#run(slot, oldestScript, [kind, name, String(pieceOf)])) as [number, ...string[]]
        count += number
        for (const [key, used] of pairs(rest)) oldest.push({ slot, key, used: Number(used) })
      }),
    )
    return { count, oldest }
  }

  async list(selection: Selection, { after = '', most = 100 }: Parameters<EntryStore['list']>[1] = {}): Promise<EntryPage> {
    const meant = meantBy(selection)
    const ofEach = Math.ceil((listedAtLeast * (most + 1)) / meant.slots.length)
    let from = after
    for (;;) {
      const { entries, until, more } = await this.#look(meant, from, Math.min(Math.max(ofEach, leastListed), mostListed))
      const page = entries.slice(0, most)
      if (page.length > 0 || !more) return { entries: page, next: more || entries.length > most ? page.at(-1)?.key : undefined }
      from = until
    }
  }

  /** Entries after a key, up to where every slot was looked at. */
  async #look(
    { kind, name, slots }: Meant,
    after: string,
    most: number,
  ): Promise<{ entries: EntrySummary[]; until: string; more: boolean }> {
    const found: EntrySummary[] = []
    let until: string | undefined
    await Promise.all(
      slots.map(async (slot) => {
        const [looked, isAll, ...texts] = (await this.#run(slot, listScript, [kind, name, after, String(most)])) as [
          string,
          string,
          ...string[],
        ]
        for (let i = 0; i < texts.length; i += rowLength) found.push(summaryOf(texts.slice(i, i + rowLength)))
        if (isAll !== '1' && (until === undefined || byteOrder(looked, until) < 0)) until = looked
      }),
    )
    const sure = found.filter(({ key }) => until === undefined || byteOrder(key, until) <= 0)
    return { entries: sure.sort((one, other) => byteOrder(one.key, other.key)), until: until ?? '', more: until !== undefined }
  }

  async sweep(now: number): Promise<Dropped> {
    return this.#dropped(allSlots, sweepScript, [String(now), String(pieceOf)])
  }

  async size(): Promise<StoreSize> {
    const bases = allSlots.map((slot) => this.#places.entries(slot))
    const sum = async (command: string, name: string) => {
      const all = await Promise.all(bases.map((base) => this.#link.send(`${base}${name}`, [command, `${base}${name}`])))
      return all.reduce<number>((total, one) => total + Number(one ?? 0), 0)
    }
    const [entries, bytes] = await Promise.all([sum('ZCARD', 'keys'), sum('GET', 'bytes')])
    return { entries, bytes }
  }

  /** Writes what is not written yet; for closing. */
  async settle(): Promise<void> {
    this.claims.closing()
    await this.#uses.flush()
  }

  async #dropped(slots: readonly number[], script: Script, args: readonly string[]): Promise<Dropped> {
    const done = (await Promise.all(slots.map((slot) => this.#run(slot, script, args)))) as [number, number][]
    return { entries: done.reduce((sum, [one]) => sum + one, 0), more: done.some(([, more]) => more === 1) }
  }

  #run(slot: number, script: Script, args: readonly Part[]): Promise<unknown> {
    const base = this.#places.entries(slot)
    return this.#link.run(script, `${base}keys`, [base, ...args])
  }
}
