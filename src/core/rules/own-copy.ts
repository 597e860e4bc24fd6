import { builtInKind, deepest, hasOwnMembers, isPlainArray, isPlainObject, oddityOf } from './object-kind.js'

/**
 * A value that shares nothing with the given one that could be changed: its plain objects, arrays, dates, maps, sets, typed arrays and
 * buffers are copied, what stands in it twice stays one object. What cannot be copied, such as an instance of a class, stays as it is; `left`
 * is told of each such object.
 */
export function ownCopy<T>(value: T, left: (object: object) => void = () => {}): T {
  return isPrimitive(value) ? value : (new Copying(left).of(value, 0) as T)
}

/** Whether a value is none that could be changed. */
export function isPrimitive(value: unknown): boolean {
  return (typeof value !== 'object' || value === null) && typeof value !== 'function'
}

class Copying {
  readonly #left: (object: object) => void
  readonly #copies = new Map<object, object>()

  constructor(left: (object: object) => void) {
    this.#left = left
  }

  of(value: unknown, depth: number): unknown {
    if (typeof value !== 'object' || value === null) return value
    const known = this.#copies.get(value)
    if (known) return known
    const copy = depth < deepest ? this.#copy(value, depth + 1) : undefined
    if (!copy) this.#left(value)
    return copy ?? value
  }

  /** Undefined where it cannot be copied. */
  #copy(value: object, depth: number): object | undefined {
    const isArray = isPlainArray(value)
    if (isArray || isPlainObject(value)) {
      if (oddityOf(value) !== undefined) return undefined
      const copy = this.#as(value, isArray ? new Array(value.length) : Object.create(Object.getPrototypeOf(value)))
      for (const [name, member] of Object.entries(value)) {
        Object.defineProperty(copy, name, { value: this.of(member, depth), writable: true, enumerable: true, configurable: true })
      }
      return copy
    }
    const kind = hasOwnMembers(value) ? undefined : builtInKind(value)
    if (kind === 'Date') return this.#as(value, new Date((value as Date).getTime()))
    if (kind === 'Set') {
      const copy = this.#as(value, new Set())
      for (const item of value as Set<unknown>) copy.add(this.of(item, depth))
      return copy
    }
    if (kind === 'Map') {
      const copy = this.#as(value, new Map())
      for (const [key, item] of value as Map<unknown, unknown>) copy.set(this.of(key, depth), this.of(item, depth))
      return copy
    }
    const bytes = kind === undefined ? undefined : ownBytes(value)
    return bytes && this.#as(value, bytes)
  }

  /** Noted before it is filled, so that a cycle in the value becomes one in the copy. */
  #as<C extends object>(value: object, copy: C): C {
    this.#copies.set(value, copy)
    return copy
  }
}

/** A copy of a buffer or of a view, which then has a buffer of its own; undefined for other objects. */
export function ownBytes<T extends object>(value: T): T | undefined {
  if (value instanceof ArrayBuffer) return value.slice(0) as object as T
  if (!ArrayBuffer.isView(value)) return undefined
  const { buffer } = new Uint8Array(new Uint8Array(value.buffer, value.byteOffset, value.byteLength)) // a copy, also of shared memory
  const its = value.constructor as (new (buffer: ArrayBuffer) => T) & { from(buffer: ArrayBuffer): T }
  return builtInKind(value) === 'Buffer' ? its.from(buffer) : new its(buffer)
}
