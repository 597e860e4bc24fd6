import { createHash } from 'node:crypto'
import type { Entry, Evicted } from '../../core/ports/entry-store.js'
import { type DroppedEntry, evictedOf, wasFresh } from '../../core/ports/evictions.js'
import type { Selection } from '../../core/ports/selection.js'
import { RecentUses } from '../usage.js'
import type { Row } from './driver.js'
import type { Condition } from './entry-rows.js'
import type { SqliteFile } from './sqlite-file.js'

/** How long a use of an entry may wait to be written, milliseconds, and how many may. */
const writeUsesAfterMs = 1_000
const mostUses = 1_000

/** Entries dropped with one look, at the most, and how often what is remembered of dropped ones is tidied up: once in so many. */
const mostAtOnce = 100
const tidyEvery = 256

/** Keys of evicted entries are remembered, one for so many bytes of room, and at least so many. */
const roomPerRemembered = 2_000
const leastRemembered = 1_000

/** Where room is needed, this share of it is made beyond what is needed, so that the next entries find some. */
const spareShare = 64

/** What an entry takes beside its key, head and body, in the file, bytes. */
const entryOverhead = 200

/** What a label of an entry takes beside its text, which stands in the file twice, bytes. */
const labelOverhead = 50

/** How many bytes of the room an entry takes; its key stands in the file twice. */
export function bytesOf({ key, head, body, labels = [] }: Entry): number {
  const ofLabels = labels.reduce((sum, label) => sum + 2 * Buffer.byteLength(label) + labelOverhead, 0)
  return body.byteLength + Buffer.byteLength(head) + 2 * Buffer.byteLength(key) + entryOverhead + ofLabels
}

/** Keeps the entries of a file within their bytes: knows which were used least recently, without writing at each use. */
export class Room {
  readonly #file: SqliteFile
  readonly #maxBytes: number
  readonly #onDrop: (key: string) => void
  readonly #uses = new RecentUses(mostUses)
  #timer: NodeJS.Timeout | undefined
  #dropped = 0
  /** All entries, or those of an endpoint, with smaller ids were used again since they were put. */
  readonly #usedBelow = new Map<string, number>()

  /** `onDrop` is called with the key of each entry that goes. */
  constructor(file: SqliteFile, maxBytes: number, onDrop: (key: string) => void) {
    this.#file = file
    this.#maxBytes = maxBytes
    this.#onDrop = onDrop
  }

  /** Whether an entry is larger than all the room there is. */
  isTooSmallFor(bytes: number): boolean {
    return bytes > this.#maxBytes
  }

  /** Whether an entry of so many bytes may need the room of others, and whether one under its key was dropped. */
  look(key: string, bytes: number): { isFull: boolean; mayBeEvicted: boolean } {
    const [used, hasEvicted] = this.#file.list('SELECT bytes, EXISTS (SELECT 1 FROM evicted) FROM entry_total').get() as number[]
    return { isFull: Number(used) + bytes > this.#maxBytes, mayBeEvicted: hasEvicted === 1 && this.#wasEvicted(key) }
  }

  #wasEvicted(key: string): boolean {
    return this.#file.list('SELECT 1 FROM evicted WHERE digest = ?').get(digestOf(key)) !== undefined
  }

  /** An entry was used. */
  use(entry: Entry): void {
    if (this.#file.readOnly) return
    this.#uses.use(entry)
    this.#timer ??= setTimeout(() => this.#writeUses(), writeUsesAfterMs).unref()
  }

  /** An entry was given as an answer. */
  given(entry: Entry, now: number, isSaving: boolean): void {
    if (this.#file.readOnly) return
    this.#uses.given(entry, now, isSaving)
    this.#timer ??= setTimeout(() => this.#writeUses(), writeUsesAfterMs).unref()
  }

  /** Whether an entry under a key was dropped that would be fresh still; it is remembered no longer. In a transaction. */
  takeEvicted(key: string, now: number): boolean {
    const found = this.#file.statement('DELETE FROM evicted WHERE digest = ? RETURNING fresh_until').get(digestOf(key))
    return found !== undefined && Number(found.fresh_until) > now
  }

  /** Drops entries until the rest fits: those not worth keeping any more, then those used least recently. In a transaction. */
  make(now: number): readonly Evicted[] | undefined {
    if (this.#excess().bytes <= 0) return undefined
    this.#noteUses()
    const worthless = this.#file.statement(`SELECT ${victim} FROM entry WHERE keep_until <= ? ORDER BY keep_until LIMIT ?`)
    const dropped: DroppedEntry[] = []
    for (let excess = this.#excess(); excess.bytes > 0; excess = this.#excess()) {
      const most = Math.min(mostAtOnce, excess.entries + Math.floor(excess.all / spareShare))
      const dead = worthless.all(now, most)
      const victims = dead.length > 0 ? dead : this.#leastUsed(most)
      if (victims.length === 0) break
      let left = excess.bytes + this.#maxBytes / spareShare
      for (const row of victims) {
        if (left <= 0) break
        left -= Number(row.bytes)
        dropped.push(this.#drop(row, now))
      }
    }
    const evicted = evictedOf(dropped, now)
    return evicted.length > 0 ? evicted : undefined
  }

  /** Drops some of the entries that a selection means beyond `most`, those used least recently, `atOnce` of them. In a transaction. */
  trim(
    selection: Selection,
    { where, values }: Condition,
    { most, atOnce }: { most: number; atOnce: number },
    now: number,
  ): readonly DroppedEntry[] {
    this.#noteUses()
    if ('endpoint' in selection && selection.endpoint !== undefined) {
      const place = [selection.provider, selection.endpoint] as const
      const total = this.#file.statement('SELECT entries FROM endpoint_total WHERE provider = ? AND endpoint = ?').get(...place)
      const excess = Math.min(atOnce, Number(total?.entries ?? 0) - most)
      return excess <= 0 ? [] : this.#leastUsed(excess, place).map((row) => this.#drop(row, now))
    }
    const all = this.#file.statement(`SELECT count(*) AS entries FROM entry WHERE ${where}`).get(...values)
    if (Number(all?.entries) <= most) return []
    const latest = 'ORDER BY coalesce(used, entry.id) DESC LIMIT ? OFFSET ?'
    const older = `SELECT ${victim} FROM entry LEFT JOIN entry_use USING (id) WHERE ${where.replaceAll('provider', 'entry.provider')} ${latest}`
    return this.#file
      .statement(older)
      .all(...values, atOnce, most)
      .map((row) => this.#drop(row, now))
  }

  /** Forgets what was known of the file: another took its place. */
  begunAnew(): void {
    this.#usedBelow.clear()
  }

  /** Writes what is not written yet; for closing. */
  settle(): void {
    if (this.#timer) this.#writeUses()
  }

  #writeUses(): void {
    clearTimeout(this.#timer)
    this.#timer = undefined
    try {
      this.#file.inTransaction(() => this.#noteUses())
    } catch {
      this.#uses.take() // they only say what goes first, and how often it was given
    }
  }

  #noteUses(): void {
    if (this.#uses.isEmpty) return
    const { uses } = this.#file.statement('SELECT uses FROM entry_total').get() as Row
    const note = this.#file.statement(`INSERT INTO entry_use (id, provider, endpoint, used, uses, saved, used_at)
      SELECT id, provider, endpoint, ?, iif(stored_at = ?, ?, 0), iif(stored_at = ?, ?, 0), ? FROM entry WHERE key = ?
      ON CONFLICT (id) DO UPDATE SET used = excluded.used, uses = uses + excluded.uses, saved = saved + excluded.saved,
        used_at = max(used_at, excluded.used_at)`)
    let next = Number(uses)
    for (const { key, storedAt, times, saved, lastAt } of this.#uses.take()) note.run(++next, storedAt, times, storedAt, saved, lastAt, key)
    this.#file.statement('UPDATE entry_total SET uses = ?').run(next)
  }

  /**
   * So many entries that were used least recently, of all or of an endpoint: of those that were never used again since they were put, and of the
   * others.
   */
  #leastUsed(most: number, place?: readonly [provider: string, endpoint: string]): Row[] {
    const name = JSON.stringify(place ?? [])
    const [ofEntry, ofUse] = ['entry', 'entry_use'].map((table) => (place ? `${table}.provider = ? AND ${table}.endpoint = ? AND` : ''))
    const once = `SELECT ${victim}, id AS used FROM entry
      WHERE ${ofEntry} id >= ? AND NOT EXISTS (SELECT 1 FROM entry_use WHERE entry_use.id = entry.id) ORDER BY id LIMIT ?`
    const usedOnce = this.#file.statement(once).all(...(place ?? []), this.#usedBelow.get(name) ?? 0, most)
    const first = usedOnce[0]?.used ?? Number(this.#file.statement('SELECT uses FROM entry_total').get()?.uses) + 1
    this.#usedBelow.set(name, Number(first))
    const again = `SELECT ${victim}, used FROM entry_use JOIN entry USING (id) WHERE ${ofUse} true ORDER BY used LIMIT ?`
    const usedAgain = this.#file.statement(again).all(...(place ?? []), most)
    return [...usedOnce, ...usedAgain].sort((one, other) => Number(one.used) - Number(other.used)).slice(0, most)
  }

  /** How much is to be dropped, about how many entries that is, and of how many. */
  #excess(): { bytes: number; entries: number; all: number } {
    const total = this.#file.statement('SELECT entries, bytes FROM entry_total').get()
    const [entries, bytes] = [Number(total?.entries), Number(total?.bytes)]
    const excess = bytes - this.#maxBytes
    return { bytes: excess, entries: Math.ceil((excess * entries) / bytes), all: entries }
  }

  #drop(row: Row, now: number): DroppedEntry {
    this.#onDrop(String(row.key))
    this.#file.statement('DELETE FROM entry WHERE id = ?').run(row.id as number)
    const freshUntil = row.fresh_until as number
    const was = { provider: String(row.provider), endpoint: String(row.endpoint), freshUntil, invalidated: row.invalidated === 1 }
    if (!wasFresh(was, now)) return was
    const remember = 'INSERT OR REPLACE INTO evicted (digest, fresh_until) VALUES (?, ?)'
    this.#file.statement(remember).run(digestOf(String(row.key)), freshUntil)
    if (++this.#dropped % tidyEvery === 0) this.#tidy(now)
    return was
  }

  /** Forgets dropped entries whose freshness is over, and of too many those whose freshness ends first. */
  #tidy(now: number): void {
    this.#file.statement('DELETE FROM evicted WHERE fresh_until <= ?').run(now)
    const latest = 'SELECT digest FROM evicted ORDER BY fresh_until DESC LIMIT -1 OFFSET ?'
    this.#file
      .statement(`DELETE FROM evicted WHERE digest IN (${latest})`)
      .run(Math.max(leastRemembered, Math.floor(this.#maxBytes / roomPerRemembered)))
  }
}

/** The first 48 bits of a key's SHA-256. */
function digestOf(key: string): number {
  return createHash('sha256').update(key).digest().readUIntBE(0, 6)
}

const victim = 'entry.id, key, entry.provider, entry.endpoint, bytes, fresh_until, invalidated'
