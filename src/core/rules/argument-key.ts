import canonicalize from 'canonicalize'
import { StashenError } from '../errors/errors.js'
import { exactText, InexactValue } from './exact-text.js'
import { isPlainData } from './plain-data.js'

/**
 * The key of an operation's call: its name and its arguments, as canonical JSON (RFC 8785) where they are plain data, else as text that
 * tells them apart as well. Arguments left out and arguments given as undefined at the end are the same. Throws `ARGUMENTS_UNKEYABLE`
 * for what cannot be told apart by what it holds.
 */
export function argumentKey(operation: string, args: readonly unknown[]): string {
  const given = args.slice(0, args.findLastIndex((arg) => arg !== undefined) + 1)
  return operation + (canonicalJson(given) ?? exactOf(given, (argument, inexact) => unkeyable(operation, argument, inexact)))
}

/**
 * A prefix and what a `keyedBy` function returned, as in `argumentKey`. Throws `ARGUMENTS_UNKEYABLE`, also for undefined: a function that
 * forgot to return something would give all calls the same answer.
 */
export function canonicalKey(prefix: string, value: unknown): string {
  if (value === undefined) throw ofFunction(new InexactValue('', 'undefined'))
  return prefix + (canonicalJson(value) ?? exactOf([value], (_argument, inexact) => ofFunction(inexact)))
}

/** Undefined where the value is no plain data, or holds text that JSON cannot (lone surrogates). */
function canonicalJson(value: unknown): string | undefined {
  if (!isPlainData(value)) return undefined
  try {
    return canonicalize(value)
  } catch {
    return undefined
  }
}

/** In round brackets, which canonical JSON never begins with. */
function exactOf(values: readonly unknown[], fault: (argument: number, inexact: InexactValue) => StashenError): string {
  const texts = values.map((value, i) => {
    try {
      return exactText(value)
    } catch (error) {
      throw error instanceof InexactValue ? fault(i + 1, error) : error
    }
  })
  return `(${texts.join()})`
}

function unkeyable(operation: string, argument: number, { at, what }: InexactValue): StashenError {
  return new StashenError(
    'ARGUMENTS_UNKEYABLE',
    `operation "${operation}" has no key for this call: argument ${argument}${at} is ${what}, which nothing tells from others; give the operation a "keyedBy" function that returns what tells its answers apart`,
  )
}

function ofFunction({ at, what }: InexactValue): StashenError {
  return new StashenError(
    'ARGUMENTS_UNKEYABLE',
    `a "keyedBy" function returned something that gives no key: ${at === '' ? 'it' : `what stands at ${at}`} is ${what}`,
  )
}
