import canonicalize from 'canonicalize'
import { digestOf } from './digest.js'
import { atPointer } from './json-pointer.js'

/**
 * What tells one body from another, as a digest: JSON by its canonical form (RFC 8785), or by the values at some pointers
 * (RFC 6901); forms by their fields in the order of names; all else byte by byte.
 */
export function bodyKey(body: Uint8Array, contentType: string | null, pointers: readonly string[] | undefined): string {
  const type = (contentType ?? '').split(';')[0]?.trim().toLowerCase() ?? ''
  if (type === 'application/json' || type.endsWith('+json')) return digestOf(jsonForm(new TextDecoder().decode(body), pointers))
  if (type === 'application/x-www-form-urlencoded') return digestOf(`form ${formForm(new TextDecoder().decode(body))}`)
  return digestOf(`${type} ${digestOf(body)}`)
}

/** Texts that `JSON.parse` would change, by numbers it cannot hold, and texts that are no JSON, stand as they are. */
function jsonForm(text: string, pointers: readonly string[] | undefined): string {
  try {
    if (/\d{16}/.test(text)) return `text ${text}`
    const value: unknown = JSON.parse(text)
    return `json ${canonicalize(pointers ? pointers.map((pointer) => [pointer, atPointer(value, pointer) ?? null]) : value)}`
  } catch {
    return `text ${text}`
  }
}

function formForm(text: string): string {
  const fields = new URLSearchParams(text)
  fields.sort()
  return fields.toString()
}
