import canonicalize from 'canonicalize'
import { StashenError } from '../errors.js'
import { isPlainData } from './plain-data.js'

/**
 * The key of an operation's call: its name and its arguments as canonical JSON (RFC 8785). Arguments left out and arguments
 * given as undefined at the end are the same. Throws `ARGUMENTS_UNKEYABLE` for anything that JSON cannot tell apart.
 */
export function argumentKey(operation: string, args: readonly unknown[]): string {
  const given = args.slice(0, args.findLastIndex((arg) => arg !== undefined) + 1)
  const odd = given.findIndex((arg) => !isPlainData(arg))
  if (odd >= 0) throw unkeyable(operation, odd)
  try {
    return operation + canonicalize(given)
  } catch (cause) {
    throw unkeyable(operation, undefined, cause)
  }
}

/** A prefix and one value as canonical JSON (RFC 8785); throws `ARGUMENTS_UNKEYABLE` for anything else than plain JSON data. */
export function canonicalKey(prefix: string, value: unknown): string {
  if (isPlainData(value)) return prefix + canonicalize(value)
  throw new StashenError('ARGUMENTS_UNKEYABLE', 'a "keyedBy" function returned something other than plain JSON data, which gives no key')
}

function unkeyable(operation: string, at: number | undefined, cause?: unknown): StashenError {
  const which = at === undefined ? 'its arguments hold' : `argument ${at + 1} is or holds`
  return new StashenError(
    'ARGUMENTS_UNKEYABLE',
    `operation "${operation}" has no key for this call: ${which} something other than plain JSON data; give the operation a "keyedBy" function that returns what tells its answers apart`,
    { cause },
  )
}
