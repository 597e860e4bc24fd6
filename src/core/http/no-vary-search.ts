import { parseDictionary } from 'structured-headers'
import { type Fields, fieldValue } from './stored-head.js'

/** Which query parameters an answer does not depend on: these, or all but these. */
export type SearchVariance = { readonly ignored: readonly string[] } | { readonly only: readonly string[] }

/**
 * What `No-Vary-Search` says of the query (IETF httpbis draft "No-Vary-Search", section 4); undefined where it is absent, does not
 * parse, or says that every parameter counts. The order of names never counts here.
 */
export function searchVariance(fields: Fields): SearchVariance | undefined {
  const value = fieldValue(fields, 'no-vary-search')
  if (!value) return undefined
  try {
    const said = parseDictionary(value)
    const [params] = said.get('params') ?? [undefined]
    const [except] = said.get('except') ?? [undefined]
    if (said.has('except') && (params !== true || !Array.isArray(except))) return undefined
    if (params === true) return { only: names(except ?? []) }
    const ignored = Array.isArray(params) ? names(params) : []
    return ignored.length > 0 ? { ignored } : undefined
  } catch {
    return undefined
  }
}

function counts(variance: SearchVariance, parameter: string): boolean {
  return 'only' in variance ? variance.only.includes(parameter) : !variance.ignored.includes(parameter)
}

/** The same answers, with only the parameters counting that the upstream says matter. */
export function narrowed<T extends { readonly usesParameter: (name: string) => boolean }>(keying: T, variance: SearchVariance): T {
  return { ...keying, usesParameter: (name: string) => keying.usesParameter(name) && counts(variance, name) }
}

function names(list: unknown): string[] {
  const items = list as readonly (readonly [unknown, unknown])[]
  if (!items.every(([bare]) => typeof bare === 'string')) throw new TypeError('a name is a string')
  return items.map(([bare]) => bare as string).sort()
}
