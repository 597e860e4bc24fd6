/**
 * Whether JSON can hold `value` without changing it: null, booleans, finite numbers, strings, arrays without holes and plain
 * objects of these. Anything else (undefined, Date, Map, bigint, class instances, cycles, -0) would come back as something else.
 */
export function isPlainData(value: unknown): boolean {
  return isPlain(value, [])
}

function isPlain(value: unknown, around: unknown[]): boolean {
  switch (typeof value) {
    case 'string':
    case 'boolean':
      return true
    case 'number':
      return Number.isFinite(value) && !Object.is(value, -0)
    case 'object':
      return value === null || (!around.includes(value) && isPlainObject(value, [...around, value]))
    default:
      return false
  }
}

function isPlainObject(value: object, around: unknown[]): boolean {
  if (Object.getOwnPropertySymbols(value).length > 0) return false
  if (Array.isArray(value)) {
    return Object.keys(value).length === value.length && value.every((item) => isPlain(item, around))
  }
  const prototype = Object.getPrototypeOf(value)
  const plain = prototype === null || Object.getPrototypeOf(prototype) === null
  return plain && Object.values(value).every((item) => isPlain(item, around))
}
