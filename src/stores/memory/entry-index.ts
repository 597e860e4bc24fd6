import { invalidatedTimes, type StoredTimes } from '../../core/decide/entry-times.js'
import type { Entry } from '../../core/ports/entry-store.js'
import type { Selection } from '../../core/ports/selection.js'
import { isSelected } from '../../core/ports/selection.js'
import type { Mark } from './marks.js'
import { PathMarks } from './path-marks.js'
import { ShardedMap } from './sharded-map.js'
import { Group, Labelled, Neighbours, Slot } from './slot.js'

/** Finds entries by key, endpoint and use, at a cost that depends on what is found, not on what is there. */
export class EntryIndex {
  readonly slots = new ShardedMap<Slot>()
  readonly #groups = new Map<string, Map<string, Group>>()
  readonly #neighbours = new ShardedMap<Neighbours>()
  readonly #labels = new ShardedMap<Labelled>()
  readonly #paths = new PathMarks<Slot>(this.slots, (slot) => void this.current(slot))
  readonly #onChange: (slot: Slot) => void
  #uses = 0
  #changes = 0

  /** `onChange` is called with each slot that gets other times or is dropped. */
  constructor(onChange: (slot: Slot) => void) {
    this.#onChange = onChange
  }

  get(key: string): Slot | undefined {
    const slot = this.slots.get(key)
    return slot && this.current(slot)
  }

  /** A slot whose entry has the times that invalidations since have left it. */
  current(slot: Slot): Slot {
    const { group, neighbours, labelled, changed } = slot
    const { latest } = this.#paths
    if (
      group.marks.latest <= changed &&
      latest <= changed &&
      labelled === undefined &&
      (neighbours === undefined || neighbours.marks.latest <= changed)
    )
      return slot
    const first = this.#firstMark(slot)
    if (first) this.change(slot, invalidatedTimes(slot.times, first.now))
    return slot
  }

  /** The first invalidation of a slot with others since its latest change. */
  #firstMark({ key, group, neighbours, labelled = [], changed }: Slot): Mark | undefined {
    let first = group.marks.after(changed)
    const look = (mark: Mark | undefined) => {
      if (mark && (first === undefined || mark.change < first.change)) first = mark
    }
    look(neighbours?.marks.after(changed))
    look(this.#paths.after(key, changed))
    for (const { marks } of labelled) look(marks.after(changed))
    return first
  }

  change(slot: Slot, times: StoredTimes): void {
    this.#onChange(slot)
    slot.setTimes(times)
    slot.changed = ++this.#changes
  }

  /** Returns how many uses of entries there have been since its latest. */
  use(slot: Slot): number {
    const before = slot.used
    slot.used = ++this.#uses
    slot.group.order.use(slot)
    return this.#uses - before
  }

  add(entry: Entry): Slot {
    const { key, provider, endpoint, labels } = entry
    const group = this.#groupOf(provider, endpoint)
    const place = placeOf(key)
    const neighbours = place === key ? undefined : this.#neighboursOf(place)
    const labelled = labels && labels.length > 0 ? labels.map((label) => this.#labelledBy(label)) : undefined
    const slot = new Slot(entry, { group, neighbours, labelled }, { used: ++this.#uses, changed: ++this.#changes })
    this.slots.set(key, slot)
    group.order.add(slot)
    group.size++
    neighbours?.slots.add(slot)
    for (const { slots } of labelled ?? []) slots.add(slot)
    return slot
  }

  drop(slot: Slot): void {
    const { key, group, neighbours, labelled = [] } = slot
    this.#onChange(slot)
    this.slots.delete(key)
    group.order.remove(slot)
    group.size--
    for (const { label, slots } of labelled) {
      slots.delete(slot)
      if (slots.size === 0) this.#labels.delete(label)
    }
    if (!neighbours) return
    neighbours.slots.delete(slot)
    if (neighbours.slots.size === 0) this.#neighbours.delete(placeOf(key))
  }

  /** Of all entries, the one used least recently. */
  get oldest(): Slot | undefined {
    let oldest: Slot | undefined
    for (const group of this.groups({ all: true })) {
      const its = group.order.oldest
      if (its && (oldest === undefined || its.used < oldest.used)) oldest = its
    }
    return oldest
  }

  /** Invalidates all entries of a selection as of now, and returns how many these are: for a path, none. */
  invalidate(selection: Selection, now: number): number {
    if ('key' in selection || 'under' in selection) return this.#invalidateUnder(selection, now)
    const change = ++this.#changes
    if ('path' in selection) {
      this.#paths.add(selection.path, change, now)
      return 0
    }
    if ('label' in selection) {
      const labelled = this.#labels.get(selection.label)
      labelled?.marks.add(change, now)
      return labelled?.slots.size ?? 0
    }
    let entries = 0
    for (const group of this.groups(selection)) {
      group.marks.add(change, now)
      entries += group.size
    }
    return entries
  }

  #invalidateUnder(selection: Extract<Selection, { readonly key: string } | { readonly under: string }>, now: number): number {
    const neighbours =
      'under' in selection && placeOf(selection.under) === selection.under ? this.#neighbours.get(selection.under) : undefined
    neighbours?.marks.add(++this.#changes, now)
    let entries = neighbours?.slots.size ?? 0
    for (const slot of this.selected(selection)) {
      if (neighbours && slot.neighbours === neighbours) break // the others are marked
      this.change(slot, invalidatedTimes(this.current(slot).times, now))
      entries++
    }
    return entries
  }

  /** The slots of a selection; they may be dropped meanwhile. */
  *selected(selection: Selection): Iterable<Slot> {
    if ('key' in selection || 'under' in selection) {
      const slot = this.slots.get('key' in selection ? selection.key : selection.under)
      if (slot) yield slot
      if ('under' in selection) yield* this.#under(selection)
    } else if ('label' in selection) yield* this.#labels.get(selection.label)?.slots ?? []
    else if ('path' in selection) {
      for (const slot of this.slots.values()) if (isSelected(selection, slot)) yield slot
    } else for (const { order } of this.groups(selection)) yield* order
  }

  /** Without the one whose key is the selection's itself. */
  *#under(selection: { readonly under: string }): Iterable<Slot> {
    const { under } = selection
    const isWhole = under.split(' ', words).length === words
    const slots = isWhole ? (this.#neighbours.get(placeOf(under))?.slots ?? []) : this.slots.values()
    for (const slot of slots) if (slot.key !== under && isSelected(selection, slot)) yield slot
  }

  *groups(selection: Extract<Selection, { readonly all: true } | { readonly provider: string }>): Iterable<Group> {
    if ('all' in selection) {
      for (const groups of this.#groups.values()) yield* groups.values()
      return
    }
    const groups = this.#groups.get(selection.provider)
    const one = selection.endpoint === undefined ? undefined : groups?.get(selection.endpoint)
    if (selection.endpoint === undefined) yield* groups?.values() ?? []
    else if (one) yield one
  }

  #groupOf(provider: string, endpoint: string): Group {
    let groups = this.#groups.get(provider)
    if (!groups) {
      groups = new Map()
      this.#groups.set(provider, groups)
    }
    let group = groups.get(endpoint)
    if (!group) {
      group = new Group(provider, endpoint)
      groups.set(endpoint, group)
    }
    return group
  }

  #labelledBy(label: string): Labelled {
    let labelled = this.#labels.get(label)
    if (!labelled) {
      labelled = new Labelled(label)
      this.#labels.set(label, labelled)
    }
    return labelled
  }

  #neighboursOf(place: string): Neighbours {
    let neighbours = this.#neighbours.get(place)
    if (!neighbours) {
      neighbours = new Neighbours()
      this.#neighbours.set(place, neighbours)
    }
    return neighbours
  }
}

/** Keys of requests begin with their method, URL and endpoint. */
const words = 3

/** The first three words of a key. */
function placeOf(key: string): string {
  let at = -1
  for (let word = 0; word < words; word++) {
    at = key.indexOf(' ', at + 1)
    if (at < 0) return key
  }
  return key.slice(0, at)
}
