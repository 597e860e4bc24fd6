/** The most of a value that is shown, in characters. */
const longest = 100

/** A value as it stands in messages: like JSON where it can be, shortened where it is long. */
export function shown(value: unknown): string {
  const text = textOf(value)
  return text.length > longest ? `${text.slice(0, longest - 3)}...` : text
}

function textOf(value: unknown): string {
  switch (typeof value) {
    case 'undefined':
      return 'nothing'
    case 'bigint':
      return `${value}n`
    case 'function':
      return 'a function'
    case 'string':
      return JSON.stringify(value.slice(0, longest))
    case 'object':
      if (typeof (value as { then?: unknown } | null)?.then === 'function') return 'a promise'
      try {
        return JSON.stringify(value) ?? 'an object'
      } catch {
        return 'an object' // which JSON cannot hold
      }
    default:
      return Object.is(value, -0) ? '-0' : String(value)
  }
}
