import { type Fields, fieldValue } from './stored-head.js'

/** The condition that asks whether a stored answer still holds (RFC 9110 sections 13.1.2 and 13.1.3; RFC 9111 section 4.3.1). */
export function conditionsOf(stored: Fields): Fields {
  const etag = fieldValue(stored, 'etag')
  const modified = fieldValue(stored, 'last-modified')
  return [
    ...(etag === undefined ? [] : [['if-none-match', etag] as const]),
    ...(modified === undefined ? [] : [['if-modified-since', modified] as const]),
  ]
}

/**
 * Whether a 304 speaks of the stored answer (RFC 9111 section 4.3.4): its strong entity tag is the same, or its weak one, or its
 * modification date; one without validators answers the only condition that was asked.
 */
export function speaksOf(stored: Fields, notModified: Fields): boolean {
  const etag = fieldValue(notModified, 'etag')
  if (etag !== undefined) return isWeak(etag) ? opaque(etag) === opaque(fieldValue(stored, 'etag')) : etag === fieldValue(stored, 'etag')
  const modified = fieldValue(notModified, 'last-modified')
  return modified === undefined || modified === fieldValue(stored, 'last-modified')
}

/** Fields of the body as it was stored, which a 304 does not change (RFC 9111 section 3.2). */
const ofTheBody = ['content-length', 'content-encoding', 'content-range', 'content-type', 'etag']

/** The stored fields, brought up to date by those of a 304 (RFC 9111 section 3.2). */
export function freshenedFields(stored: Fields, notModified: Fields): Fields {
  const news = notModified.filter(([name]) => !ofTheBody.includes(name))
  const renewed = new Set(news.map(([name]) => name))
  return [...stored.filter(([name]) => !renewed.has(name)), ...news]
}

/**
 * Whether an answer to HEAD speaks of the stored answer (RFC 9111 section 4.3.5): `same` where a validator says so, `other` where one
 * of them, or the length, says no; undefined where nothing says either.
 */
export function comparedWithHead(stored: Fields, head: Fields): 'same' | 'other' | undefined {
  const pairs = ['etag', 'last-modified', 'content-length'].map((name) => [fieldValue(stored, name), fieldValue(head, name)])
  const known = pairs.filter(([one, other]) => one !== undefined && other !== undefined)
  if (known.some(([one, other]) => one !== other)) return 'other'
  return known.some((pair) => pair !== pairs[2]) ? 'same' : undefined
}

function isWeak(etag: string): boolean {
  return etag.startsWith('W/')
}

function opaque(etag: string | undefined): string | undefined {
  return etag?.replace(/^W\//, '')
}
