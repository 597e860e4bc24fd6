import type { SearchVariance } from './no-vary-search.js'
import type { Fields } from './stored-head.js'

/** The name of a field (RFC 9110 section 5.1). */
const fieldName = /^[!#$%&'+.^_`|~\w-]+$/

/**
 * The request fields by which an answer varies (RFC 9110 section 12.5.5): sorted, none where it does not, `*` where by more than fields.
 * Without those of which it is said that they stand in every key anyway, which keep answers apart as it is.
 */
export function varyOf(fields: Fields, isInKey: (name: string) => boolean): readonly string[] | '*' {
  const listed = fields
    .filter(([name]) => name === 'vary')
    .flatMap(([, value]) => value.split(',').map((field) => field.trim().toLowerCase()))
  if (listed.some((name) => name !== '' && !fieldName.test(name))) return '*' // also where it is none that can be asked for
  return [...new Set(listed)].filter((name) => name !== '' && !isInKey(name)).sort()
}

/** What the head of an entry says that holds no answer, but points to where the answers are. */
export type Signpost = { readonly vary: readonly string[] } | { readonly search: SearchVariance }

const signpostStart = '{"to":'

export function signpostHead(signpost: Signpost): string {
  return `${signpostStart}${JSON.stringify(signpost)}}`
}

export function isSignpost(head: string): boolean {
  return head.startsWith(signpostStart)
}

/** Undefined if the entry is an answer. */
export function signpostOf(head: string): Signpost | undefined {
  return isSignpost(head) ? (JSON.parse(head) as { to: Signpost }).to : undefined
}
