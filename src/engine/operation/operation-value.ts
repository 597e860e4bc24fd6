import { exactText, InexactValue } from '../../core/rules/exact-text.js'
import { isPrimitive, ownCopy } from '../../core/rules/own-copy.js'
import { isPlainData } from '../../core/rules/plain-data.js'
import { exactCbor, ofExactCbor } from './exact-cbor.js'

/** The value of an operation, in a form of which every receiver can be given one of its own. */
export interface OperationValue {
  read(): unknown
  /** What others than the first receiver get; undefined where they cannot be given one of their own. */
  readonly others: OperationValue | undefined
}

/** How values are turned into what can be stored, and back: `fromPlain(toPlain(value))` is as good as the value. */
export interface ValueForm<V = unknown, P = unknown> {
  /** Plain data, dates, maps, sets, big integers or bytes, that say all of the value. */
  readonly toPlain: (value: V) => P
  /** Another such value, made of what `toPlain` returned. */
  readonly fromPlain: (plain: P) => V
}

/** A value as it is stored. */
export interface Storable {
  readonly head: string
  readonly body: Uint8Array
  readonly value: OperationValue
}

/** How a value is written down, by the head of its entry: JSON (RFC 8259) where that holds it exactly, else CBOR (RFC 8949); a Node `Buffer` as its bytes. */
const codings = { json: '', cbor: 'cbor', buffer: 'buffer' } as const

/** The storable form of a value. Throws, mostly `InexactValue`, where nothing gives it back as it was. */
export function storableValue(value: unknown, form?: ValueForm): Storable {
  if (form) {
    const plain = storableValue(form.toPlain(value))
    return { ...plain, value: restoredBy(plain.value, form) }
  }
  if (isPlainData(value)) {
    const text = JSON.stringify(value)
    return {
      head: codings.json,
      body: encoder.encode(text),
      value: isPrimitive(value) ? unchangeable(value) : each(() => JSON.parse(text)),
    }
  }
  const text = exactText(value)
  if (isBuffer(value)) {
    const body = Uint8Array.from(value)
    return { head: codings.buffer, body, value: each(() => bufferOf(body)) }
  }
  const body = exactCbor(value)
  if (exactText(ofExactCbor(body)) !== text) throw new InexactValue('', 'something that its stored form does not give back exactly')
  return { head: codings.cbor, body, value: isPrimitive(value) ? unchangeable(value) : each(() => ownCopy(ofExactCbor(body))) }
}

/** The value of an entry. */
export function storedValue(head: string, body: Uint8Array, form?: ValueForm): OperationValue {
  if (form) return restoredBy(storedValue(head, body), form)
  if (head === codings.cbor) return each(() => ownCopy(ofExactCbor(body)))
  if (head === codings.buffer) return each(() => bufferOf(body))
  const text = decoder.decode(body)
  return text.startsWith('{') || text.startsWith('[') ? each(() => JSON.parse(text)) : unchangeable(JSON.parse(text))
}

/** A value as its function returned it, for the first who asked; `others` get what is stored of it. */
export function returnedValue(value: unknown, storable: Storable | undefined): OperationValue {
  return isPrimitive(value) ? unchangeable(value) : { read: () => value, others: storable?.value }
}

/** A value that no receiver can change, or that is passed on as it is. */
export function unchangeable(value: unknown): OperationValue {
  return each(() => value)
}

/** Each receiver gets what `read` returns then. */
function each(read: () => unknown): OperationValue {
  const value: OperationValue = {
    read,
    get others() {
      return value
    },
  }
  return value
}

function restoredBy(plain: OperationValue, { fromPlain }: ValueForm): OperationValue {
  return each(() => fromPlain(plain.read()))
}

/** The `Buffer` of Node, which a browser has not. */
const { Buffer: NodeBuffer } = globalThis as { Buffer?: typeof Buffer }

function isBuffer(value: unknown): value is Uint8Array {
  return NodeBuffer?.isBuffer(value) === true
}

function bufferOf(bytes: Uint8Array): Uint8Array {
  const { buffer } = new Uint8Array(bytes)
  return NodeBuffer ? NodeBuffer.from(buffer) : new Uint8Array(buffer)
}

const encoder = new TextEncoder()
const decoder = new TextDecoder()
