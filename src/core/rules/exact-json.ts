import Big from 'big.js'
import { endOfString } from './json-text.js'

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
  const names = namesIn(text)
  return names !== undefined && names === membersOf(is) ? { is } : undefined
}

/** How many names of members stand in JSON text; undefined where a number does that a double does not hold. */
function namesIn(text: string): number | undefined {
  const token = /"|-?\d[\d.eE+-]*/g
  const nameEnd = /\s*:/y
  let names = 0
  for (let found = token.exec(text); found; found = token.exec(text)) {
    if (found[0] !== '"') {
      if (!isExact(found[0])) return undefined
      continue
    }
    token.lastIndex = nameEnd.lastIndex = endOfString(text, token.lastIndex)
    if (nameEnd.test(text)) names++
  }
  return names
}

/** Decimals of so many digits a double gives back as they were (IEEE 754, binary64). */
const digitsHeld = 15

/** Whether a double holds a number as it is written, but for zeros that say nothing. */
function isExact(number: string): boolean {
  if (number.length <= digitsHeld && !/[eE]/.test(number)) return !number.startsWith('-') || Number(number) !== 0
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
