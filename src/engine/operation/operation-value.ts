import { decode, encode } from 'cbor2'
import { exactText } from '../../core/rules/exact-text.js'
import { isPlainData } from '../../core/rules/plain-data.js'

/** The value of an operation, in a form of which every receiver can be given one of its own. */
export interface OperationValue {
  read(): unknown
}

/** How a value is written down: by the head of its entry. JSON (RFC 8259) where that holds it exactly, else CBOR (RFC 8949). */
const codings = { json: '', cbor: 'cbor' } as const

/** The storable form of a value, or undefined where neither JSON nor CBOR gives it back as it was. */
export function storableValue(value: unknown): { head: string; body: Uint8Array; value: OperationValue } | undefined {
  if (isPlainData(value)) {
    const text = JSON.stringify(value)
    return {
      head: codings.json,
      body: encoder.encode(text),
      value: isPrimitive(value) ? unchangeable(value) : { read: () => JSON.parse(text) },
    }
  }
  try {
    const body = encode(value, { collapseBigInts: false })
    if (exactText(decode(body)) !== exactText(value)) return undefined
    return { head: codings.cbor, body, value: isPrimitive(value) ? unchangeable(value) : { read: () => decode(body) } }
  } catch {
    return undefined
  }
}

/** The value of an entry. */
export function storedValue(head: string, body: Uint8Array): OperationValue {
  if (head === codings.cbor) return { read: () => decode(body) }
  const text = decoder.decode(body)
  return text.startsWith('{') || text.startsWith('[') ? { read: () => JSON.parse(text) } : unchangeable(JSON.parse(text))
}

/** A value that no receiver can change, or that is passed on as it is. */
export function unchangeable(value: unknown): OperationValue {
  return { read: () => value }
}

function isPrimitive(value: unknown): boolean {
  return typeof value !== 'object' || value === null
}

const encoder = new TextEncoder()
const decoder = new TextDecoder()
