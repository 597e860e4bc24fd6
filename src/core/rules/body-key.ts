import canonicalize from 'canonicalize'
import { digestOf } from './digest.js'
import { atPointer } from './json-pointer.js'

/**
 * What tells one body from another, as a digest: JSON by its canonical form (RFC 8785), or by the values at some pointers
 * (RFC 6901); forms by their fields in the order of names; multipart bodies by their parts, whatever separates them (RFC 2046 section
 * 5.1.1); all else byte by byte.
 */
export function bodyKey(body: Uint8Array, contentType: string | null, pointers: readonly string[] | undefined): string {
  const type = (contentType ?? '').split(';')[0]?.trim().toLowerCase() ?? ''
  if (type === 'application/json' || type.endsWith('+json')) return digestOf(jsonForm(new TextDecoder().decode(body), pointers))
  if (type === 'application/x-www-form-urlencoded') return digestOf(`form ${formForm(new TextDecoder().decode(body))}`)
  const parts = type.startsWith('multipart/') ? multipartParts(body, contentType ?? '') : undefined
  return digestOf(parts ? `${type} parts ${JSON.stringify(parts)}` : `${type} ${digestOf(body)}`)
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

/** The parts of a multipart body, heads included, a character a byte; undefined where it is not one. */
function multipartParts(body: Uint8Array, contentType: string): string[] | undefined {
  const [, quoted, plain] = /;\s*boundary=(?:"([^"]+)"|([^;\s]+))/i.exec(contentType) ?? []
  const delimiter = `--${quoted ?? plain}`
  const text = `\r\n${new TextDecoder('latin1').decode(body)}`
  const [preamble, ...parts] = text.split(`\r\n${delimiter}`)
  const end = parts.pop()
  return preamble === '' && end?.startsWith('--') === true && parts.length > 0 ? parts : undefined
}
