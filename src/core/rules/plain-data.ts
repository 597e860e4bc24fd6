import { deepest, isPlainArray, isPlainObject, oddityOf } from './object-kind.js'

/**
 * Whether JSON can hold `value` without changing it: null, booleans, finite numbers, strings, arrays without holes and plain
 * objects of these. Anything else (undefined, Date, Map, bigint, class instances, getters, cycles, -0) would come back as something else.
 */
export function isPlainData(value: unknown): boolean {
  return isPlain(value, [])
}

function isPlain(value: unknown, around: object[]): boolean {
  switch (typeof value) {
    case 'string':
    case 'boolean':
      return true
    case 'number':
      return Number.isFinite(value) && !Object.is(value, -0)
    case 'object':
      return value === null || isPlainInside(value, around)
    default:
      return false
  }
}

function isPlainInside(value: object, around: object[]): boolean {
  if (around.length >= deepest || around.includes(value)) return false
  const isWhole = isPlainArray(value) ? Object.keys(value).length === value.length : isPlainObject(value)
  if (!isWhole || oddityOf(value) !== undefined) return false
  around.push(value)
  const are = Object.values(value).every((item) => isPlain(item, around))
  around.pop()
  return are
}
