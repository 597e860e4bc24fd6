import type { Credentials } from './credentials.js'
import { decoded, pathParameter } from './normalise-url.js'
import { isPlainArray, isPlainObject } from './object-kind.js'
import { mentions, redacted, type SecretsCarrier, secretsOf, secretText } from './secrets.js'

type Fields = readonly (readonly [name: string, value: string])[]

/** Names of fields of answers that hand out credentials. */
const handedOut = /token|secret|passw|session|api-?key|^(proxy-)?authorization$/

/** Fields whose values are words of HTTP: what of them is the same as a credential is so by accident. */
const vocabulary = [
  ...[
    'content-type',
    'content-encoding',
    'content-language',
    'content-length',
    'cache-control',
    'vary',
    'date',
    'expires',
    'last-modified',
  ],
  ...['age', 'accept-ranges', 'allow', 'pragma', 'retry-after', 'content-range', 'content-disposition'],
]

/** Fields of answers by which a client goes on. */
const links = ['location', 'link', 'refresh']

/** How deep causes of errors are looked at. */
const deepest = 8

/** Keeps the credentials of one request, and those in URLs that its answer brings, out of what is written down. */
export class Redaction {
  readonly #credentials: Credentials
  readonly #request: SecretsCarrier
  #secrets: readonly string[] | undefined

  constructor(credentials: Credentials, request: SecretsCarrier) {
    this.#credentials = credentials
    this.#request = request
  }

  /** A text without credentials: those of the request, and what goes by their names in the queries and fragments of URLs. */
  text(text: string): string {
    const secrets = this.#known()
    const known = mentions(text, secrets) ? redacted(text, secrets) : text
    return withoutUserinfo(this.#withoutParameters(known, this.#isHidden))
  }

  readonly #isCredential = (name: string, _value: string): boolean => this.#credentials.isParameter(name)

  readonly #isHidden = (name: string, value: string): boolean =>
    this.#credentials.isParameter(name) || this.#credentials.hides(name, decoded(value))

  /** A URL without credentials, and without its fragment, which no server sees. */
  url(url: string): string {
    const end = url.indexOf('#')
    return this.text(end < 0 ? url : url.slice(0, end))
  }

  /** Fields of an answer as they are stored: without those that hand out a credential or repeat one, which are never altered. */
  fields(fields: Fields): Fields {
    return fields.flatMap(([name, value]): [string, string][] => {
      if (name === 'set-cookie' || vocabulary.includes(name)) return [[name, value]]
      if (handedOut.test(name) && this.#credentials.isField(name)) return []
      const kept = this.#withoutParameters(withoutUserinfo(value))
      return mentions(kept, this.#known()) ? [] : [[name, kept]]
    })
  }

  /**
   * Whether a link or a redirect among the fields of an answer would be another without a credential: one that the request did not bring, or that
   * may be data, or that stands elsewhere than in a query.
   */
  linksBySecret(fields: Fields): boolean {
    return fields.some(([name, value]) => {
      if (!links.includes(name)) return false
      const known = redacted(value, this.#known())
      const left = this.#withoutParameters(
        known,
        (parameter, text) =>
          this.#credentials.isParameter(parameter) && (text !== secretText || !this.#credentials.isCertainParameter(parameter)),
      )
      return left !== known || this.#withoutParameters(known).includes(secretText)
    })
  }

  /** The error, without credentials in its text or in those of its causes; the same object where that can be changed. */
  error(error: unknown, depth = 0): unknown {
    if (typeof error === 'string') return this.text(error)
    if (typeof error !== 'object' || error === null) return error
    if (depth > deepest) return new Error(`causes deeper than ${deepest} are left out`)
    try {
      this.#clean(error, depth)
      return error
    } catch {
      return this.#another(error) // it is frozen, or its text is made anew each time
    }
  }

  /** What its credentials are taken out of: its text, its causes, and what it holds of plain data. */
  #clean(error: object, depth: number): void {
    for (const name of new Set(['message', 'stack', ...Object.getOwnPropertyNames(error)])) {
      const value = read(error, name)
      const clean = name === 'cause' ? this.error(value, depth + 1) : this.#value(value, depth + 1)
      if (!Object.is(clean, value)) Object.defineProperty(error, name, { value: clean, writable: true, configurable: true })
    }
  }

  /** The same value where no credential is in it. */
  #value(value: unknown, depth: number): unknown {
    if (typeof value === 'string') return this.text(value)
    if (value instanceof Error) return this.error(value, depth)
    if (typeof value !== 'object' || value === null || depth > deepest) return value
    if (isPlainArray(value)) {
      const clean = value.map((item) => this.#value(item, depth + 1))
      return clean.every((item, i) => Object.is(item, value[i])) ? value : clean
    }
    if (!isPlainObject(value)) return value
    const members = Object.entries(value)
    const clean = members.map(([name, member]) => [name, this.#member(name, member, depth)] as const)
    return clean.every(([, member], i) => Object.is(member, members[i]?.[1])) ? value : Object.fromEntries(clean)
  }

  #member(name: string, value: unknown, depth: number): unknown {
    return typeof value === 'string' && this.#credentials.isField(name.toLowerCase()) ? secretText : this.#value(value, depth + 1)
  }

  /** An error that says the same, in place of one that cannot be changed. */
  #another(error: object): Error {
    const its = (name: string): string | undefined => {
      const text = read(error, name)
      return typeof text === 'string' ? this.text(text) : undefined
    }
    const code = its('code')
    const another = new Error(its('message') ?? 'the error cannot be shown, for it tells a credential')
    return Object.assign(another, { name: its('name') ?? another.name, ...(code !== undefined && { code }) })
  }

  #known(): readonly string[] {
    this.#secrets ??= secretsOf(this.#credentials, this.#request)
    return this.#secrets
  }

  /** `isMeant`: which of the parameters are left out; by default the credentials. */
  #withoutParameters(text: string, isMeant = this.#isCredential): string {
    if (!text.includes('=')) return text
    const cleaned = text
      .replace(/([?&#])([^\s"'<>=?&#;,]+)=([^\s"'<>&#]*)(?=(&?))/g, (whole, before: string, name: string, value: string) =>
        isMeant(decoded(name), value) ? `${before}${dropped}` : whole,
      )
      .replace(pathParameter, (whole, name: string) => (this.#credentials.isParameter(decoded(name)) ? '' : whole))
    return cleaned === text ? text : tidy(cleaned)
  }
}

/** Undefined where reading it throws. */
function read(object: object, name: string): unknown {
  try {
    return (object as Record<string, unknown>)[name]
  } catch {
    return undefined
  }
}

/** Stands for a parameter that is left out; no URL has it. */
const dropped = '\u0000'

/** Without the separators of parameters that are left out. */
function tidy(text: string): string {
  return text
    .replace(/&\0/g, '')
    .replace(/([?#])\0&/g, '$1')
    .replace(/[?#]\0/g, '')
}

function withoutUserinfo(text: string): string {
  return text.includes('@') ? text.replace(/(:\/\/)[^/?#\s"'<>@]*@/g, '$1') : text
}
