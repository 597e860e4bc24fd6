import canonicalize from 'canonicalize'
import { digestOf } from './digest.js'

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
    return `json ${canonicalize(pointers ? pointers.map((pointer) => [pointer, valueAt(value, pointer) ?? null]) : value)}`
  } catch {
    return `text ${text}`
  }
}

function formForm(text: string): string {
  const fields = new URLSearchParams(text)
  fields.sort()
  return fields.toString()
}

/** The value that a JSON Pointer names (RFC 6901 section 4); undefined where there is none. */
function valueAt(whole: unknown, pointer: string): unknown {
  const steps = pointer.split('/').slice(1)
  return steps.reduce<unknown>((value, step) => {
    const name = step.replaceAll('~1', '/').replaceAll('~0', '~')
    return typeof value === 'object' && value !== null && Object.hasOwn(value, name) ? (value as Record<string, unknown>)[name] : undefined
  }, whole)
}
