/** Words that stand under a collection without being one of its members. */
const reserved = /^(search|find|query|latest|current|me|self|all|count|list|new|stats|nearby|batch|bulk|export|import|status|health)$/i

/** Leading parts of paths that belong to all of an API. */
export const isOfBase = (part: string) => /^(api|rest|public|v\d+([._-]\d+)*)$/i.test(part)

const isDate = (part: string) => /^\d{4}-\d{2}(-\d{2})?/.test(part)

/** Whether a part of a path looks like what names one thing of many: a number, a code with digits, a UUID, a date, anything that is no plain word. */
export function isVariable(part: string): boolean {
  if (isOfBase(part) || reserved.test(part)) return false
  return !/^[A-Za-z][\w.~-]*$/.test(part) || part.length > 32 || (/\d/.test(part) && !/^[A-Za-z]+\d$/.test(part))
}

/** How many different words stand in one place of a path before they are taken for names of one thing of many. */
export function mostWords(parent: string | undefined, isBesideVariables: boolean): number {
  const isCollection = parent !== undefined && /[^s]s$/i.test(parent)
  if (!isCollection) return 30
  return isBesideVariables ? 0 : 2
}

export const isReserved = (part: string) => reserved.test(part)

/** What the variable part after `parent` is called in a template that has some names already. */
export function variableName(values: readonly string[], parent: string | undefined, taken: readonly string[]): string {
  const wanted = values.every(isDate) ? 'date' : 'id'
  if (!taken.includes(wanted)) return wanted
  const name = camelCase([singular(parent ?? 'item'), wanted])
  for (let i = 1; ; i++) if (!taken.includes(i === 1 ? name : `${name}${i}`)) return i === 1 ? name : `${name}${i}`
}

export function singular(word: string): string {
  if (/ies$/i.test(word)) return word.replace(/ies$/i, 'y')
  if (/(ss|us|is)$/i.test(word)) return word
  return word.replace(/(?<=[sxz]|ch|sh)es$|s$/i, '')
}

/** A name of letters and digits, a letter first. */
export function camelCase(words: readonly string[]): string {
  const parts = words.flatMap((word) => word.split(/[^A-Za-z\d]+/)).filter((part) => part !== '')
  const name = parts.map((part, i) => (i === 0 ? part[0]?.toLowerCase() : part[0]?.toUpperCase()) + part.slice(1)).join('')
  return /^[A-Za-z]/.test(name) ? name : `at${name}`
}

/** What an API is called, after its host. */
export function providerName(origin: string, taken: readonly string[]): string {
  const { hostname, port } = new URL(origin)
  const labels = hostname.replace(/^\[|\]$/g, '').split('.')
  const isNamed = labels.length > 1 && !labels.every((label) => /^[\d:]*$/.test(label))
  const chosen = isNamed ? labels.slice(0, -1).filter((label) => !/^(www|api|co|com|org|net|ac|gov)$/.test(label)) : []
  const short = isNamed ? (chosen.at(-1) ?? labels[0] ?? 'api') : `local${port === '' ? '' : `-${port}`}`
  const names = [short, chosen.join('-'), `${labels.join('-')}${port === '' ? '' : `-${port}`}`].map((name) =>
    /^[A-Za-z]/.test(name) ? name : `api-${name}`,
  )
  const free = names.find((name) => name !== 'api-' && !taken.includes(name)) ?? (names[0] as string)
  for (let i = 1; ; i++) if (!taken.includes(i === 1 ? free : `${free}-${i}`)) return i === 1 ? free : `${free}-${i}`
}
