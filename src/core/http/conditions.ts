import { parseHttpDate } from './http-date.js'
import { type Fields, fieldValue } from './stored-head.js'

/** Request fields that set a condition, with what is done about them here. */
const conditions = ['if-none-match', 'if-modified-since', 'if-match', 'if-unmodified-since', 'if-range'] as const

type Read = (name: string) => string | null

/** The condition of a request: one that a stored answer can be compared with, one that only its origin may judge, or none. */
export function conditionOf(header: Read): 'ours' | 'theirs' | undefined {
  const asked = conditions.filter((name) => header(name) !== null)
  if (asked.length === 0) return undefined
  return asked.includes('if-match') || asked.includes('if-unmodified-since') ? 'theirs' : 'ours'
}

/**
 * Whether a request's condition says that its sender has the stored answer already, so that a 304 is due (RFC 9111 section 4.3.2):
 * an entity tag counts before a date, and is compared weakly (RFC 9110 section 13.1.2).
 */
export function senderHasIt(header: Read, stored: Fields, storedAt: number): boolean {
  const tags = header('if-none-match')
  if (tags !== null) {
    const etag = fieldValue(stored, 'etag')
    return tags.trim() === '*' || (etag !== undefined && listOfTags(tags).some((tag) => opaque(tag) === opaque(etag)))
  }
  const since = parseHttpDate(header('if-modified-since') ?? undefined, storedAt)
  if (since === undefined) return false
  const changedAt = fieldValue(stored, 'last-modified') ?? fieldValue(stored, 'date')
  const modified = changedAt === undefined ? storedAt : parseHttpDate(changedAt, storedAt)
  return modified !== undefined && modified <= since
}

/** Whether `If-Range` lets a part of the stored answer be given: a strong tag that is the same, or the very date (RFC 9110 section 13.1.5). */
export function rangeHolds(header: Read, stored: Fields): boolean {
  const validator = header('if-range')
  if (validator === null) return true
  if (validator.startsWith('"')) return validator === fieldValue(stored, 'etag')
  return !validator.startsWith('W/') && validator === fieldValue(stored, 'last-modified')
}

/** Fields of a stored answer that a 304 made from it repeats (RFC 9110 section 15.4.5). */
const repeated = ['cache-control', 'content-location', 'date', 'etag', 'expires', 'vary', 'last-modified', 'access-control-allow-origin']

export function fieldsOfNotModified(stored: Fields): Fields {
  return stored.filter(([name]) => repeated.includes(name))
}

function listOfTags(text: string): string[] {
  return text.match(/(?:W\/)?"[^"]*"/g) ?? []
}

function opaque(tag: string): string {
  return tag.replace(/^W\//, '')
}
