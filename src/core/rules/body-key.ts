import canonicalize from 'canonicalize'
import { digestOf } from './digest.js'
import { exactJson } from './exact-json.js'
import { atPointer } from './json-pointer.js'
import { normalisePercent } from './normalise-url.js'

/**
 * What tells one body from another, as a digest, with its media type and content coding: JSON by its canonical form (RFC 8785), or by the
 * values at some pointers (RFC 6901); forms by their fields in the order of names; multipart bodies by their parts, whatever separates
 * them (RFC 2046 section 5.1.1); and byte by byte all else, and all that these forms would change: another charset, bytes that are no
 * UTF-8, numbers that a double does not hold, names that stand twice in an object.
 */
export function bodyKey(body: Uint8Array, header: (name: string) => string | null, pointers: readonly string[] | undefined): string {
  const contentType = header('content-type') ?? ''
  const [type = '', ...parameters] = contentType.split(';').map((part) => part.trim())
  const essence = type.toLowerCase()
  const coding = header('content-encoding')
  const others = parameters.filter((one) => !/^(boundary=|charset="?utf-8"?$)/i.test(one) && one !== '')
  const kind = JSON.stringify([essence, others, coding])
  const form = coding === null && !others.some((one) => /^charset=/i.test(one)) ? formOf(essence, body, contentType, pointers) : undefined
  return digestOf(`${kind} ${form ?? `bytes ${digestOf(body)}`}`)
}

/** Undefined where the bytes have no form that tells what they do. */
function formOf(type: string, body: Uint8Array, contentType: string, pointers: readonly string[] | undefined): string | undefined {
  if (type === 'application/json' || type.endsWith('+json')) return jsonForm(textOf(body), pointers)
  if (type === 'application/x-www-form-urlencoded') return formForm(textOf(body))
  const parts = type.startsWith('multipart/') ? multipartParts(body, contentType) : undefined
  return parts && `parts ${JSON.stringify(parts)}`
}

/** Undefined where the bytes are no UTF-8. */
function textOf(body: Uint8Array): string | undefined {
  try {
    return decoder.decode(body)
  } catch {
    return undefined
  }
}

const decoder = new TextDecoder('utf-8', { fatal: true, ignoreBOM: true })

function jsonForm(text: string | undefined, pointers: readonly string[] | undefined): string | undefined {
  const value = text === undefined ? undefined : exactJson(text)
  if (value === undefined) return undefined
  try {
    const parts = pointers && partsOf(value.is, pointers)
    return parts ? `parts ${canonicalize(parts)}` : `json ${canonicalize(value.is)}`
  } catch {
    return undefined // text that is no Unicode
  }
}

/** The parts of a body by which it is told from others; undefined where all of it counts: a pointer finds nothing, or the body is a list, as batches are. */
function partsOf(whole: unknown, pointers: readonly string[]): unknown[] | undefined {
  const found = Array.isArray(whole) ? [undefined] : pointers.map((pointer) => atPointer(whole, pointer))
  return found.includes(undefined) ? undefined : found
}

/** The fields of a form as they are written, in the order of their names. */
function formForm(text: string | undefined): string | undefined {
  if (text === undefined) return undefined
  const fields = text.split('&').map((raw) => normalisePercent(raw))
  const nameOf = (field: string) => field.split('=', 1)[0] ?? ''
  return `form ${fields.sort((a, b) => (nameOf(a) < nameOf(b) ? -1 : nameOf(a) > nameOf(b) ? 1 : 0)).join('&')}`
}

/** The parts of a multipart body, heads included, a character a byte; undefined where it is not one. */
function multipartParts(body: Uint8Array, contentType: string): string[] | undefined {
  const [, quoted, plain] = /;\s*boundary=(?:"([^"]+)"|([^;\s]+))/i.exec(contentType) ?? []
  const boundary = quoted ?? plain
  if (boundary === undefined) return undefined
  const text = `\r\n${new TextDecoder('latin1').decode(body)}`
  const [preamble, ...parts] = text.split(`\r\n--${boundary}`)
  return preamble === '' && parts.length > 1 && parts.at(-1)?.startsWith('--') === true ? parts : undefined
}
