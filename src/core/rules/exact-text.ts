import { digestOf } from './digest.js'
import { builtInKind, deepest, hasOwnMembers, isPlainArray, isPlainObject, oddityOf } from './object-kind.js'

/** A value that cannot be told from others by what it holds. */
export class InexactValue extends Error {
  override readonly name = 'InexactValue'

  /** `at`: where in the whole it stands, e.g. `.vessel[2]`. */
  constructor(
    readonly at: string,
    readonly what: string,
  ) {
    super(`${at === '' ? 'it' : at} is ${what}`)
  }
}

/**
 * Text that differs for any two values with different contents: plain data, undefined, every number, bigint, `Date`, `Map`, `Set`,
 * typed arrays and `ArrayBuffer`. Objects with the same members in another order are the same; maps and sets are not, for whoever gets
 * them sees their order. Throws `InexactValue` for anything else: functions, symbols, promises, instances of classes, cycles, objects with
 * getters or hidden members, and what is nested deeper than `deepest`.
 */
export function exactText(value: unknown): string {
  return textOf(value, '', [])
}

function textOf(value: unknown, at: string, around: object[]): string {
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
      return value === null ? 'null' : textOfObject(value, at, around)
    default:
      throw new InexactValue(at, `a ${typeof value}`)
  }
}

function textOfObject(value: object, at: string, around: object[]): string {
  if (around.includes(value)) throw new InexactValue(at, 'a part of itself')
  if (around.length >= deepest) throw new InexactValue('', `nested more than ${deepest} deep`)
  around.push(value)
  const text = contentsOf(value, at, (item, step) => textOf(item, at + step, around))
  around.pop()
  return text
}

function contentsOf(value: object, at: string, inner: (item: unknown, step: string) => string): string {
  const isArray = isPlainArray(value)
  if (isArray || isPlainObject(value)) {
    const oddity = oddityOf(value)
    if (oddity !== undefined) throw new InexactValue(at, `an ${isArray ? 'array' : 'object'} with ${oddity}`)
    if (isArray) return `[${Array.from(value, (item, i) => (i in value ? inner(item, `[${i}]`) : 'none')).join()}]`
    const members = Object.entries(value).sort(([a], [b]) => (a < b ? -1 : 1))
    return `{${members.map(([name, member]) => `${JSON.stringify(name)}:${inner(member, `.${name}`)}`).join()}}`
  }
  const kind = hasOwnMembers(value) ? undefined : builtInKind(value)
  const bytes = kind === undefined ? undefined : bytesOf(value)
  if (bytes) return `${kind}(${bytes.byteLength} ${digestOf(bytes)})`
  if (kind === 'Date') return `Date(${(value as Date).getTime()})`
  if (kind === 'Set') return `Set(${[...(value as Set<unknown>)].map((item, i) => inner(item, `[${i}]`)).join()})`
  if (kind === 'Map') {
    const pairs = [...(value as Map<unknown, unknown>)]
    return `Map(${pairs.map(([key, item], i) => `${inner(key, `[${i}].key`)}:${inner(item, `[${i}].value`)}`).join()})`
  }
  throw new InexactValue(at, `an instance of ${value.constructor?.name || 'a class'}`)
}

function bytesOf(value: object): Uint8Array | undefined {
  if (ArrayBuffer.isView(value)) return new Uint8Array(value.buffer, value.byteOffset, value.byteLength)
  return value instanceof ArrayBuffer ? new Uint8Array(value) : undefined
}
