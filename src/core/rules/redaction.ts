import type { Credentials } from './credentials.js'
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
    return withoutUserinfo(this.#withoutParameters(known))
  }

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
        (parameter, text) => text !== secretText || !this.#credentials.isCertainParameter(parameter),
      )
      return left !== known || this.#withoutParameters(known).includes(secretText)
    })
  }

  /** The error, without credentials in its text or in those of its causes; the same object where that can be changed. */
  error(error: unknown, depth = 0): unknown {
    if (typeof error === 'string') return this.text(error)
    if (typeof error !== 'object' || error === null || depth > deepest) return error
    try {
      this.#clean(error, depth)
      return error
    } catch {
      return new Error('the error cannot be shown, for it tells a credential') // it is frozen, or its text is made anew each time
    }
  }

  #clean(error: { cause?: unknown; errors?: unknown }, depth: number): void {
    for (const name of ['message', 'stack', 'url', 'href', 'input'] as const) {
      const text: unknown = (error as unknown as Record<string, unknown>)[name]
      if (typeof text !== 'string') continue
      const clean = this.text(text)
      if (clean !== text) Object.defineProperty(error, name, { value: clean, writable: true, configurable: true })
    }
    if (error.cause !== undefined) {
      const clean = this.error(error.cause, depth + 1)
      if (clean !== error.cause) Object.defineProperty(error, 'cause', { value: clean, writable: true, configurable: true })
    }
    if (Array.isArray(error.errors)) for (const one of error.errors) this.error(one, depth + 1)
  }

  #known(): readonly string[] {
    this.#secrets ??= secretsOf(this.#credentials, this.#request)
    return this.#secrets
  }

  /** `leavesOut`: which of the parameters that are credentials; all of them by default. */
  #withoutParameters(text: string, leavesOut = (_name: string, _value: string) => true): string {
    if (!text.includes('=')) return text
    const cleaned = text.replace(
      /([?&#])([^\s"'<>=?&#;,]+)=([^\s"'<>&#]*)(?=(&?))/g,
      (whole, before: string, name: string, value: string) =>
        this.#credentials.isParameter(decoded(name)) && leavesOut(decoded(name), value) ? `${before}${dropped}` : whole,
    )
    return cleaned === text ? text : tidy(cleaned)
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

function decoded(name: string): string {
  try {
    return decodeURIComponent(name)
  } catch {
    return name
  }
}
