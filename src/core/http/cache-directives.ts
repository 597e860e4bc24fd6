import { type Item, parseDictionary } from 'structured-headers'
import { type Fields, fieldValue } from './stored-head.js'

/** A cache directive's argument: text, or none. `invalid` where it does not parse, or is said twice with different arguments. */
type Argument = string | undefined | typeof invalid
const invalid = Symbol('invalid')

/** The largest number of seconds that is kept apart from larger ones (RFC 9111 section 1.2.2). */
const mostSeconds = 2 ** 31

/** Cache directives by name, in lower case (RFC 9111 section 5.2). */
export class CacheDirectives {
  readonly #arguments: ReadonlyMap<string, Argument>

  constructor(args: ReadonlyMap<string, Argument>) {
    this.#arguments = args
  }

  has(name: string): boolean {
    return this.#arguments.has(name)
  }

  /**
   * A directive's number of seconds as milliseconds; undefined where it is not said. What is no number, and what is said twice with
   * different numbers, gives 0: such an answer is stale (RFC 9111 section 4.2.1).
   */
  ms(name: string): number | undefined {
    if (!this.has(name)) return undefined
    const argument = this.#arguments.get(name)
    return typeof argument === 'string' && /^\d+$/.test(argument) ? Math.min(Number(argument), mostSeconds) * 1000 : 0
  }

  /** The field names that a directive is limited to (`no-cache="a, b"`), in lower case; none where it holds for the whole answer. */
  fieldNames(name: string): readonly string[] {
    const argument = this.#arguments.get(name)
    if (typeof argument !== 'string') return []
    const names = argument.split(',').map((one) => one.trim().toLowerCase())
    return names.every((one) => isToken.test(one)) ? names : []
  }

  /** Whether a directive has an argument, well-formed or not. */
  hasArgument(name: string): boolean {
    return this.#arguments.get(name) !== undefined
  }
}

const isToken = /^[\w!#$%&'*+.^`|~-]+$/
const aDirective =
  /\s*(?:([\w!#$%&'*+.^`|~-]+)(?:=(?:([\w!#$%&'*+.^`|~-]+)|"((?:[^"\\]|\\.)*)"))?\s*(?=,|$)|((?:[^,"]|"(?:[^"\\]|\\.)*"?)*))(?:,|$)/gy

/** Parses a `Cache-Control` field. What is malformed counts for the name it begins with. */
export function parseCacheControl(value: string | undefined): CacheDirectives {
  const found = new Map<string, Argument>()
  if (!value) return new CacheDirectives(found)
  for (const [, name, token, quoted, malformed] of value.matchAll(aDirective)) {
    if (name !== undefined) note(found, name.toLowerCase(), token ?? quoted?.replace(/\\(.)/g, '$1'))
    else if (malformed?.trim()) note(found, (/^[^\s=]*/.exec(malformed)?.[0] ?? '').toLowerCase(), invalid)
  }
  return new CacheDirectives(found)
}

function note(found: Map<string, Argument>, name: string, argument: Argument): void {
  found.set(name, found.has(name) && found.get(name) !== argument ? invalid : argument)
}

/**
 * The directives that an answer gives to this cache: those of the first of the `targets` that is there, is not empty and parses
 * (RFC 9213 section 2.2), else those of `Cache-Control`. `targeted`: `Expires` counts no more.
 */
export function directivesOf(fields: Fields, targets: readonly string[]): { directives: CacheDirectives; targeted: boolean } {
  for (const target of targets) {
    const directives = parseTargeted(fieldValue(fields, target))
    if (directives) return { directives, targeted: true }
  }
  return { directives: parseCacheControl(fieldValue(fields, 'cache-control')), targeted: false }
}

/** A targeted field is a Dictionary (RFC 8941 section 3.2). One that is empty or does not parse counts as not there. */
function parseTargeted(value: string | undefined): CacheDirectives | undefined {
  if (!value?.trim()) return undefined
  try {
    const said = [...parseDictionary(value)].filter(([, [bare]]) => bare !== false)
    return new CacheDirectives(new Map(said.map(([name, member]) => [name, argumentOf(member[0] as Item[0])])))
  } catch {
    return undefined
  }
}

function argumentOf(bare: Item[0] | readonly Item[]): Argument {
  if (bare === true) return undefined
  if (typeof bare === 'number') return Number.isInteger(bare) && bare >= 0 ? String(bare) : invalid
  return typeof bare === 'string' && !/^\d+$/.test(bare) ? bare : invalid
}
