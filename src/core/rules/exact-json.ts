import Big from 'big.js'

/**
 * What JSON text (RFC 8259) says, where a value can hold all of it; undefined where the text is no JSON, or has numbers that a double does
 * not hold, or names that stand twice in an object.
 */
export function exactJson(text: string): { readonly is: unknown } | undefined {
  let is: unknown
  try {
    is = JSON.parse(text)
  } catch {
    return undefined
  }
  let names = 0
  for (const [token, after] of text.matchAll(/"(?:[^"\\]|\\.)*"(\s*:)?|-?\d[\d.eE+-]*/g)) {
    if (after !== undefined) names++
    else if (!token.startsWith('"') && !isExact(token)) return undefined
  }
  return names === membersOf(is) ? { is } : undefined
}

/** Whether a double holds a number as it is written, but for zeros that say nothing. */
function isExact(number: string): boolean {
  if (/^-?(0|[1-9]\d{0,14})$/.test(number)) return number !== '-0'
  if (number.length > 400) return false
  const held = Number(number)
  try {
    return Number.isFinite(held) && !Object.is(held, -0) && new Big(String(held)).eq(new Big(number))
  } catch {
    return false
  }
}

/** How many members all objects in a value have; counted without calling itself, however deep the value is. */
function membersOf(value: unknown): number {
  const left = [value]
  let count = 0
  while (left.length > 0) {
    const one = left.pop()
    if (typeof one !== 'object' || one === null) continue
    const values = Object.values(one)
    if (!Array.isArray(one)) count += values.length
    for (const inner of values) if (typeof inner === 'object') left.push(inner)
  }
  return count
}
