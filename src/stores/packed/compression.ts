import type { Entry, EntrySummary } from '../../core/ports/entry-store.js'
import type { Maybe } from '../../core/ports/maybe.js'
import { type Coding, decoded, encoded } from './coding.js'
import type { Packing } from './options.js'
import { packedHeads } from './packed-head.js'

/** A body is stored compressed where that takes off at least this share of it. */
const leastGain = 0.1

/** What a head says of a body that is compressed: its coding, and how long it is when it is not. Other heads never begin so. */
const inJson = /^\{"packed":"(gzip|deflate|br) (\d+)"(,|(?=\}))/
const inText = /^packed (gzip|deflate|br) (\d+) /

/** An entry with its body compressed, where that is worth it; its head says so. */
export function compressed(entry: Entry, { coding, above }: Packing): Maybe<Entry> {
  const { body, head } = entry
  if (coding === undefined || body.byteLength <= above) return entry
  const packed = (bytes: Uint8Array): Entry =>
    bytes.byteLength > body.byteLength * (1 - leastGain) ? entry : { ...entry, head: headOf(head, coding, body.byteLength), body: bytes }
  const bytes = encoded(coding, body)
  return bytes instanceof Promise ? bytes.then(packed) : packed(bytes)
}

function headOf(head: string, coding: Coding, length: number): string {
  if (!head.startsWith('{')) return `${packedHeads.text}${coding} ${length} ${head}`
  return `${packedHeads.json}"${coding} ${length}"${head.startsWith('{}') ? '' : ','}${head.slice(1)}`
}

/** The entry as it was. Throws, or rejects, where its body cannot be read. */
export function uncompressed(entry: Entry): Maybe<Entry> {
  const { head, body } = entry
  const packed = packedIn(head)
  if (!packed) return entry
  const whole = (bytes: Uint8Array): Entry => ({ ...entry, head: packed.head, body: bytes })
  const bytes = decoded(packed.coding, body, packed.length)
  return bytes instanceof Promise ? bytes.then(whole) : whole(bytes)
}

/** The summary of the entry as it was. */
export function uncompressedSummary(entry: EntrySummary): EntrySummary {
  const packed = packedIn(entry.head)
  return packed ? { ...entry, head: packed.head, bytes: packed.length } : entry
}

function packedIn(head: string): { readonly head: string; readonly coding: Coding; readonly length: number } | undefined {
  const isJson = head.startsWith(packedHeads.json)
  if (!isJson && !head.startsWith(packedHeads.text)) return undefined
  const [found, coding, length] = (isJson ? inJson : inText).exec(head) ?? []
  if (found === undefined) return undefined
  return { head: `${isJson ? '{' : ''}${head.slice(found.length)}`, coding: coding as Coding, length: Number(length) }
}
