import canonicalize from 'canonicalize'
import { ArgumentsUnkeyableError } from '../errors/call-errors.js'
import { exactText, InexactValue } from './exact-text.js'
import { isPlainData } from './plain-data.js'

/** Whose keys are made: an endpoint or operation, and what each of its keys begins with. */
export interface KeyOwner {
  readonly provider: string
  readonly name: string
  readonly prefix: string
}

/**
 * The key of an operation's call: its name and its arguments, as canonical JSON (RFC 8785) where they are plain data, else as text that
 * is different for different contents. Arguments left out and arguments given as undefined at the end are the same. Throws `ARGUMENTS_UNKEYABLE`
 * for what cannot be distinguished by what it holds.
 */
export function argumentKey(owner: KeyOwner, args: readonly unknown[]): string {
  const given = args.slice(0, args.findLastIndex((arg) => arg !== undefined) + 1)
  return owner.prefix + textOf(given, true, (argument, inexact) => unkeyable(owner, argument, inexact))
}

/**
 * A prefix and what a `keyedBy` function returned, as in `argumentKey`. Throws `ARGUMENTS_UNKEYABLE`, also for undefined: a function that
 * forgot to return something would give all calls the same answer.
 */
export function canonicalKey(owner: KeyOwner, value: unknown): string {
  if (value === undefined) throw ofFunction(owner, new InexactValue('', 'undefined'))
  return owner.prefix + textOf(value, false, (_argument, inexact) => ofFunction(owner, inexact))
}

/** Exact texts stand in round brackets, which canonical JSON never begins with. `areSeveral`: the value is a list of arguments. */
function textOf(value: unknown, areSeveral: boolean, fault: (argument: number, inexact: InexactValue) => Error): string {
  const [texts, values] = [[] as string[], areSeveral ? (value as readonly unknown[]) : [value]]
  try {
    const json = isPlainData(value) ? canonicalize(value) : undefined
    if (json !== undefined) return json
  } catch {
    // text that is no Unicode, or an object that shows itself to nobody, of which more is said below
  }
  for (const one of values) {
    try {
      texts.push(exactText(one))
    } catch (error) {
      throw fault(texts.length + 1, error instanceof InexactValue ? error : new InexactValue('', 'an object that cannot be read'))
    }
  }
  return `(${texts.join()})`
}

function unkeyable({ provider, name }: KeyOwner, argument: number, { at, what }: InexactValue): Error {
  return new ArgumentsUnkeyableError(
    provider,
    name,
    `operation "${provider}.${name}" has no key for this call: argument ${argument}${at} is ${what}, which cannot be told from others; give the operation a "keyedBy" function that returns what distinguishes its answers`,
  )
}

function ofFunction({ provider, name }: KeyOwner, { at, what }: InexactValue): Error {
  return new ArgumentsUnkeyableError(
    provider,
    name,
    `the "keyedBy" function of "${provider}.${name}" returned something that gives no key: ${at === '' ? 'it' : `the value at ${at}`} is ${what}; return plain JSON data`,
  )
}
