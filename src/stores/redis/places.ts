/** Entries are spread over so many slots of a cluster. */
const entrySlots = 16

/** Keys of requests begin with their method, URL and endpoint: variants of one answer have these words in common, and one slot. */
const words = 3

/** How much longer than it has to the server keeps anything, milliseconds: clocks and networks take their time. */
export const spareMs = 60_000

/** What every key of a store begins with, by what it belongs to: what is changed in one step has one slot (Redis Cluster Specification, "Hash tags"). */
export class Places {
  readonly prefix: string

  constructor(prefix: string) {
    this.prefix = prefix
  }

  /** Of the entries of a slot. */
  entries(slot: number): string {
    return `${this.prefix}:{e${slot}}:`
  }

  get records(): string {
    return `${this.prefix}:{records}:`
  }

  get ledger(): string {
    return `${this.prefix}:{ledger}:`
  }

  /** Where changes of entries are told. */
  get changes(): string {
    return `${this.prefix}:changes`
  }

  /** Says which format the store has. */
  get format(): string {
    return `${this.prefix}:format`
  }
}

/** The slot of an entry, by the FNV-1a hash of the words that its variants share. */
export function slotOf(key: string): number {
  const end = endOfWords(key) ?? key.length
  let hash = 0x811c9dc5
  for (let i = 0; i < end; i++) hash = Math.imul(hash ^ key.charCodeAt(i), 0x01000193)
  return (hash ^ (hash >>> 15)) & (entrySlots - 1)
}

/** The slots in which entries under a key may be: one where it has all the words that they share. */
export function slotsUnder(key: string): readonly number[] {
  return key.split(' ', words).length === words ? [slotOf(key)] : allSlots
}

export const allSlots: readonly number[] = Array.from({ length: entrySlots }, (_, slot) => slot)

/** Where the words end that variants share; undefined where there are no more. */
function endOfWords(key: string): number | undefined {
  let at = -1
  for (let word = 0; word < words; word++) {
    at = key.indexOf(' ', at + 1)
    if (at < 0) return undefined
  }
  return at
}
