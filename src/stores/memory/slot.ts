import type { StoredTimes } from '../../core/decide/entry-times.js'
import type { Entry, EntryUsage } from '../../core/ports/entry-store.js'
import { EntryCopy, type UsageCount } from './entry-copy.js'
import { Marks } from './marks.js'
import { type Link, UseOrder } from './use-order.js'

/** Larger bodies stay as they are: what a buffer takes besides its bytes matters little then, and they would fill the heap. */
const largestPacked = 4_096

/** So few bytes are quicker written one by one than by a `Buffer` over them. */
const fewBytes = 64

/** The `Buffer` of Node, which a browser has not. */
const { Buffer: NodeBuffer } = globalThis as { Buffer?: typeof Buffer }

/** What a slot belongs to. */
export interface SlotPlace {
  readonly group: Group
  readonly neighbours: Neighbours | undefined
  readonly labelled: readonly Labelled[] | undefined
}

/** An entry in its place, in as little room as can be: small bodies as text of a byte a character, times by their distance from the first. */
export class Slot implements Link<Slot>, UsageCount {
  readonly key: string
  readonly group: Group
  newer: Slot | undefined = undefined
  older: Slot | undefined = undefined
  /** The number of its latest use, and that of the change by which it got its times. */
  used: number
  changed: number
  /** The entry, as long as it is at hand. */
  copy: Entry | undefined = undefined
  readonly #head: string
  readonly #body: string | Uint8Array
  /** Undefined where there is nothing of it, so that most take no more room. */
  #more: More | undefined
  /** How often it was given as an answer, and how long after it was stored last, milliseconds. */
  #uses = 0
  #lastAfter = 0
  #storedAt = 0
  #born = 0
  #fresh = 0
  #refreshable = 0
  #usable = 0
  #keep = 0
  #mustRevalidate = false
  #invalidated = false

  constructor(entry: Entry, { group, neighbours, labelled }: SlotPlace, { used, changed }: { used: number; changed: number }) {
    this.key = entry.key
    this.group = group
    this.used = used
    this.changed = changed
    this.#head = entry.head
    this.#body = packed(entry.body)
    this.#more = group.moreOf(entry, neighbours, labelled)
    this.setTimes(entry)
  }

  /** Where it has some: entries of the same request, but for who asks or what else of it matters. */
  get neighbours(): Neighbours | undefined {
    return this.#more?.neighbours
  }

  /** The entries that have its labels, for each of these; undefined where it has none. */
  get labelled(): readonly Labelled[] | undefined {
    return this.#more?.labelled
  }

  get bytes(): number {
    return bytesOf(this.#body.length, this.key, this.#head, this.labels)
  }

  get provider(): string {
    return this.group.provider
  }

  get endpoint(): string {
    return this.group.endpoint
  }

  get labels(): readonly string[] | undefined {
    return this.labelled?.map(({ label }) => label)
  }

  get storedAt(): number {
    return this.#storedAt
  }

  get freshUntil(): number {
    return this.#storedAt + this.#fresh
  }

  get keepUntil(): number {
    return this.#storedAt + this.#keep
  }

  get invalidated(): boolean {
    return this.#invalidated
  }

  get times(): StoredTimes {
    return {
      storedAt: this.#storedAt,
      bornAt: this.#storedAt + this.#born,
      freshUntil: this.freshUntil,
      refreshableUntil: this.#storedAt + this.#refreshable,
      usableUntil: this.#storedAt + this.#usable,
      keepUntil: this.keepUntil,
      mustRevalidate: this.#mustRevalidate,
      invalidated: this.#invalidated,
    }
  }

  setTimes({ storedAt, bornAt, freshUntil, refreshableUntil, usableUntil, keepUntil, mustRevalidate, invalidated }: StoredTimes): void {
    this.#storedAt = storedAt
    this.#born = bornAt - storedAt
    this.#fresh = freshUntil - storedAt
    this.#refreshable = refreshableUntil - storedAt
    this.#usable = usableUntil - storedAt
    this.#keep = keepUntil - storedAt
    this.#mustRevalidate = mustRevalidate
    this.#invalidated = invalidated
  }

  /** The entry, made anew. */
  entry(): Entry {
    const { key, provider, endpoint, times, labels } = this
    const its = { key, provider, endpoint, times, labels, head: this.#head, units: this.#more?.units, price: this.#more?.price }
    return new EntryCopy(this, its, unpacked(this.#body))
  }

  countUse(now: number, isSaving: boolean): void {
    this.#uses++
    this.#lastAfter = now - this.#storedAt
    if (!isSaving) this.#more = { ...(this.#more ?? nothingMore), unsaved: (this.#more?.unsaved ?? 0) + 1 } // what others may share stays as it is
  }

  get #usage(): EntryUsage | undefined {
    const saved = this.#uses - (this.#more?.unsaved ?? 0)
    return this.#uses === 0 ? undefined : { times: this.#uses, saved, lastAt: this.#storedAt + this.#lastAfter }
  }

  /** The entry without its body. */
  summary() {
    const { key, provider, endpoint, labels } = this
    const { units, price } = this.#more ?? nothingMore
    const its = { key, provider, endpoint, head: this.#head, ...this.times, units, price, labels }
    return { ...its, bytes: this.#body.length, usage: this.#usage }
  }
}

/** What few entries have. */
interface More {
  readonly units: Entry['units']
  readonly price: Entry['price']
  /** Uses that took the place of no call. */
  readonly unsaved: number
  readonly neighbours: Neighbours | undefined
  readonly labelled: readonly Labelled[] | undefined
}

const nothingMore: More = { units: undefined, price: undefined, unsaved: 0, neighbours: undefined, labelled: undefined }

/** What an entry takes in its slot. */
export function bytesOfEntry({ key, head, body, labels }: Entry): number {
  return bytesOf(body.byteLength, key, head, labels)
}

/** Characters count two bytes. */
function bytesOf(bodyBytes: number, key: string, head: string, labels: readonly string[] = []): number {
  return bodyBytes + 2 * (key.length + head.length) + overhead + labels.reduce((sum, label) => sum + 2 * label.length + ofLabel, 0)
}

/** What a label takes besides its characters, bytes. */
const ofLabel = 300

/** What a slot takes besides its key, head and body, with what finds it, bytes. */
const overhead = 440

function packed(body: Uint8Array): string | Uint8Array {
  if (!NodeBuffer || body.byteLength > largestPacked) return body
  return NodeBuffer.from(body.buffer, body.byteOffset, body.byteLength).toString('latin1')
}

function unpacked(body: string | Uint8Array): Uint8Array {
  if (typeof body !== 'string') return body
  const bytes = new Uint8Array(body.length)
  if (body.length < fewBytes) {
    for (let i = 0; i < body.length; i++) bytes[i] = body.charCodeAt(i)
    return bytes
  }
  NodeBuffer?.from(bytes.buffer).write(body, 'latin1')
  return bytes
}

/** The entries of an endpoint, in the order of their use. */
export class Group {
  readonly order = new UseOrder<Slot>()
  readonly marks = new Marks()
  size = 0
  /** What the entries of the latest price share. */
  #priced: More | undefined

  constructor(
    readonly provider: string,
    readonly endpoint: string,
  ) {}

  moreOf(
    { units, price }: Pick<Entry, 'units' | 'price'>,
    neighbours: Neighbours | undefined,
    labelled: readonly Labelled[] | undefined,
  ): More | undefined {
    if (units || neighbours || labelled) return { units, price, unsaved: 0, neighbours, labelled }
    if (!price) return undefined
    if (this.#priced?.price !== price) this.#priced = { ...nothingMore, price }
    return this.#priced
  }
}

/** The entries whose keys begin with the same three words, and go on. */
export class Neighbours {
  readonly slots = new Set<Slot>()
  readonly marks = new Marks()
}

/** The entries that have a label. */
export class Labelled {
  readonly slots = new Set<Slot>()
  readonly marks = new Marks()

  constructor(readonly label: string) {}
}
