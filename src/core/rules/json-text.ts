/** A member of an object in JSON text. */
export interface Member {
  readonly name: string
  /** Its value, as it is written. */
  readonly text: string
  /** Where the value stands. */
  readonly start: number
  readonly end: number
}

/** The members of the object that JSON text (RFC 8259) is, each as it is written; undefined where it is no object, or a name stands twice. */
export function membersIn(text: string): Member[] | undefined {
  const parts = isJson(text) ? partsOf(text, '{') : undefined
  const members = parts?.map(({ start, end, colon }): Member => {
    const value = trimmed(text, colon + 1, end)
    return { name: JSON.parse(text.slice(start, colon)) as string, text: text.slice(value.start, value.end), ...value }
  })
  return members && new Set(members.map(({ name }) => name)).size === members.length ? members : undefined
}

/** The value of a member, as it is written. */
export function valueIn(members: readonly Member[], wanted: string): string | undefined {
  return members.find(({ name }) => name === wanted)?.text
}

/** The items of the array that JSON text is, each as it is written; undefined where it is none. */
export function itemsIn(text: string): string[] | undefined {
  const parts = isJson(text) ? partsOf(text, '[') : undefined
  return parts?.map(({ start, end }) => text.slice(start, end).trim())
}

/** The object that has some members, as JSON text. */
export function objectOf(members: readonly Pick<Member, 'name' | 'text'>[]): string {
  return `{${members.map(({ name, text }) => `${JSON.stringify(name)}:${text}`).join(',')}}`
}

/** Where a JSON string ends whose contents begin at `from`: behind the next quote with an even number of backslashes before it. */
export function endOfString(text: string, from: number): number {
  for (let quote = text.indexOf('"', from); quote >= 0; quote = text.indexOf('"', quote + 1)) {
    let first = quote
    while (first > from && text[first - 1] === '\\') first--
    if ((quote - first) % 2 === 0) return quote + 1
  }
  return text.length
}

function isJson(text: string): boolean {
  try {
    JSON.parse(text)
    return true
  } catch {
    return false
  }
}

interface Part {
  readonly start: number
  readonly end: number
  /** Behind the name of a member. */
  readonly colon: number
}

/** Where the parts stand of an object or array that is all of a JSON text. */
function partsOf(text: string, opening: '{' | '['): Part[] | undefined {
  if (!text.trimStart().startsWith(opening)) return undefined
  const token = /["[\]{},:]/g
  const parts: Part[] = []
  let [depth, start, colon] = [0, 0, -1]
  for (let found = token.exec(text); found; found = token.exec(text)) {
    const { 0: mark, index } = found
    if (mark === '"') token.lastIndex = endOfString(text, index + 1)
    else if (mark === '{' || mark === '[') {
      if (++depth === 1) start = index + 1
    } else if (mark === ':') {
      if (depth === 1) colon = index
    } else {
      if (depth === 1 && text.slice(start, index).trim() !== '') parts.push({ start, end: index, colon })
      if (mark === ',') start = depth === 1 ? index + 1 : start
      else depth--
    }
  }
  return parts
}

function trimmed(text: string, from: number, to: number): { start: number; end: number } {
  let [start, end] = [from, to]
  while (start < end && /\s/.test(text[start] as string)) start++
  while (end > start && /\s/.test(text[end - 1] as string)) end--
  return { start, end }
}
