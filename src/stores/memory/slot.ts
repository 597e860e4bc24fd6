import type { StoredTimes } from '../../core/decide/entry-times.js'
import type { Entry } from '../../core/ports/entry-store.js'
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
export class Slot implements Link<Slot> {
  readonly key: string
  readonly group: Group
  /** Where it has some: entries of the same request, but for who asks or what else of it matters. */
  readonly neighbours: Neighbours | undefined
  newer: Slot | undefined = undefined
  older: Slot | undefined = undefined
  /** The number of its latest use, and that of the change by which it got its times. */
  used: number
  changed: number
  /** The entry, as long as it is at hand. */
  copy: Entry | undefined = undefined
  readonly #head: string
  readonly #body: string | Uint8Array
  readonly #units: Entry['units']
  /** The entries that have its labels, for each of these; undefined where it has none. */
  readonly labelled: readonly Labelled[] | undefined
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
    this.neighbours = neighbours
    this.labelled = labelled
    this.used = used
    this.changed = changed
    this.#head = entry.head
    this.#body = packed(entry.body)
    this.#units = entry.units
    this.setTimes(entry)
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
    const storedAt = this.#storedAt
    return {
      key: this.key,
      provider: this.group.provider,
      endpoint: this.group.endpoint,
      storedAt,
      bornAt: storedAt + this.#born,
      freshUntil: storedAt + this.#fresh,
      refreshableUntil: storedAt + this.#refreshable,
      usableUntil: storedAt + this.#usable,
      keepUntil: storedAt + this.#keep,
      mustRevalidate: this.#mustRevalidate,
      invalidated: this.#invalidated,
      head: this.#head,
      body: unpacked(this.#body),
      units: this.#units,
      labels: this.labels,
      memo: undefined,
    }
  }

  /** The entry without its body. */
  summary() {
    const { key, provider, endpoint } = this
    return { key, provider, endpoint, head: this.#head, ...this.times, units: this.#units, labels: this.labels, bytes: this.#body.length }
  }
}

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
const overhead = 400

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

  constructor(
    readonly provider: string,
    readonly endpoint: string,
  ) {}
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
