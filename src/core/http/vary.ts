import type { Fields } from './stored-head.js'

/** Fields whose variation cannot mix up answers: `fetch` decodes every coding, and an origin that a request names is part of its key. */
const harmless = ['accept-encoding', 'origin']

/** The request fields by which an answer varies (RFC 9110 section 12.5.5): sorted, none where it does not, `*` where by more than fields. */
export function varyOf(fields: Fields): readonly string[] | '*' {
  const listed = fields
    .filter(([name]) => name === 'vary')
    .flatMap(([, value]) => value.split(',').map((field) => field.trim().toLowerCase()))
  if (listed.includes('*')) return '*'
  return [...new Set(listed)].filter((name) => name !== '' && !harmless.includes(name)).sort()
}

/** The head of an entry that holds no answer, but says by which request fields the answers of its key vary. */
export function variantIndexHead(fields: readonly string[]): string {
  return `${indexStart}${JSON.stringify(fields)}}`
}

const indexStart = '{"vary":'

export function isVariantIndex(head: string): boolean {
  return head.startsWith(indexStart)
}

/** The request fields that an entry's head says its key varies by, or undefined if the entry is an answer. */
export function variedBy(head: string): readonly string[] | undefined {
  return isVariantIndex(head) ? (JSON.parse(head) as { vary: string[] }).vary : undefined
}
