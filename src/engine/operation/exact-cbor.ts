import { decode, type EncodeOptions, TypeEncoderMap } from 'cbor2'
import { encode, writeLength, writeTag, writeUnknown } from 'cbor2/encoder'

/** Marks a map that is a `Map`, whatever its keys are: https://www.iana.org/assignments/cbor-tags, 259. */
const mapTag = 259

/** The major type of maps (RFC 8949 section 3.1). */
const mapType = 5

const types = new TypeEncoderMap()
types.registerEncoder(Map, (map: Map<unknown, unknown>, writer, options) => {
  writeTag(mapTag, writer, options)
  writeLength(map, map.size, mapType, writer, options)
  for (const [key, value] of map) {
    writeUnknown(key, writer, options)
    writeUnknown(value, writer, options)
  }
  return undefined
})
const encoding: EncodeOptions = { collapseBigInts: false, types }

/** A value in CBOR (RFC 8949), in which objects and maps stay apart. */
export function exactCbor(value: unknown): Uint8Array {
  return encode(value, encoding)
}

type Pairs = readonly (readonly [key: unknown, value: unknown, ...rest: unknown[]])[]

/** The value that was written. */
export function ofExactCbor({ buffer, byteOffset, byteLength }: Uint8Array): unknown {
  const bytes = new Uint8Array(buffer, byteOffset, byteLength) // bytes in a `Buffer` would be such
  const pairsOf = new WeakMap<object, Pairs>()
  const createObject = (pairs: Pairs) => {
    const all = pairs.map(([key, value]) => [key, value] as const)
    const made = all.every(([key]) => typeof key === 'string') ? Object.fromEntries(all as [string, unknown][]) : new Map(all)
    pairsOf.set(made, all)
    return made
  }
  const tags = new Map([
    [mapTag, ({ contents }: { contents: unknown }) => new Map(pairsOf.get(contents as object) as [unknown, unknown][])],
  ])
  return decode(bytes, { createObject, tags } as Parameters<typeof decode>[1])
}
