import { digestOf } from './digest.js'

/** A value that cannot be told from others by what it holds. */
export class InexactValue extends Error {
  override readonly name = 'InexactValue'

  /** `at`: where in the whole it stands, e.g. `.vessel[2]`. */
  constructor(
    readonly at: string,
    readonly what: string,
  ) {
    super(`${at} is ${what}`)
  }
}

/**
 * Text that tells any two values apart which hold different things: plain data, undefined, every number, bigint, `Date`, `Map`, `Set`,
 * typed arrays and `ArrayBuffer`. Objects with the same members in another order are the same; maps and sets are not, for whoever gets
 * them sees their order. Throws `InexactValue` for anything else: functions, symbols, promises, instances of classes, cycles.
 */
export function exactText(value: unknown, at = '', around: readonly unknown[] = []): string {
  switch (typeof value) {
    case 'string':
      return JSON.stringify(value)
    case 'number':
      return Object.is(value, -0) ? '-0' : String(value)
    case 'boolean':
    case 'undefined':
      return String(value)
    case 'bigint':
      return `${value}n`
    case 'object':
      if (value === null) return 'null'
      if (around.includes(value)) throw new InexactValue(at, 'a part of itself')
      return textOfObject(value, at, [...around, value])
    default:
      throw new InexactValue(at, `a ${typeof value}`)
  }
}

function textOfObject(value: object, at: string, around: readonly unknown[]): string {
  const inner = (item: unknown, step: string) => exactText(item, at + step, around)
  const bytes = bytesOf(value)
  if (bytes) return `${kindOf(value)}(${bytes.byteLength} ${digestOf(bytes)})`
  if (Array.isArray(value)) return `[${Array.from(value, (item, i) => inner(item, `[${i}]`)).join()}]`
  const hasSymbols = Object.getOwnPropertySymbols(value).length > 0
  if (isPlainObject(value)) {
    if (hasSymbols) throw new InexactValue(at, 'an object with members named by symbols')
    const members = Object.entries(value).sort(([a], [b]) => (a < b ? -1 : 1))
    return `{${members.map(([name, member]) => `${JSON.stringify(name)}:${inner(member, `.${name}`)}`).join()}}`
  }
  const kind = Object.keys(value).length === 0 && !hasSymbols ? kindOf(value) : undefined
  if (kind === 'Date') return `Date(${(value as Date).getTime()})`
  if (kind === 'Set') return `Set(${[...(value as Set<unknown>)].map((item, i) => inner(item, `[${i}]`)).join()})`
  if (kind === 'Map') {
    const pairs = [...(value as Map<unknown, unknown>)]
    return `Map(${pairs.map(([key, item], i) => `${inner(key, `[${i}].key`)}:${inner(item, `[${i}].value`)}`).join()})`
  }
  throw new InexactValue(at, `an instance of ${value.constructor?.name || 'a class'}`)
}

/** The built-in kind of an object, by its tag, unless it is of a class made from one. A Node `Buffer` is a `Uint8Array`. */
function kindOf(value: object): string | undefined {
  const kind = Object.prototype.toString.call(value).slice(8, -1)
  const name = value.constructor?.name
  return name === kind || (name === 'Buffer' && kind === 'Uint8Array') ? kind : undefined
}

function bytesOf(value: object): Uint8Array | undefined {
  if (kindOf(value) === undefined) return undefined
  if (ArrayBuffer.isView(value)) return new Uint8Array(value.buffer, value.byteOffset, value.byteLength)
  return value instanceof ArrayBuffer ? new Uint8Array(value) : undefined
}

function isPlainObject(value: object): boolean {
  const prototype = Object.getPrototypeOf(value)
  return prototype === null || Object.getPrototypeOf(prototype) === null
}
