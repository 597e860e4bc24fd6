import type { Credentials } from './credentials.js'
import { mentions, redacted, type SecretsCarrier, secretsOf } from './secrets.js'

type Fields = readonly (readonly [name: string, value: string])[]

/** Names of fields of answers that hand out credentials. */
const handedOut = /token|secret|passw|session|api-?key|^(proxy-)?authorization$/

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

  /** Fields of an answer as they are stored. */
  fields(fields: Fields): Fields {
    return fields
      .filter(([name]) => name === 'set-cookie' || !(handedOut.test(name) && this.#credentials.isField(name)))
      .map(([name, value]) => [name, this.text(value)])
  }

  /** Whether a link or a redirect among the fields of an answer goes by a credential that the request did not bring. */
  linksBySecret(fields: Fields): boolean {
    return fields.some(([name, value]) => {
      if (!links.includes(name) || !value.includes('=')) return false
      const known = redacted(value, this.#known())
      return this.#withoutParameters(known, '[secret]') !== known
    })
  }

  /** The error, without credentials in its text or in those of its causes; the same object where that can be changed. */
  error(error: unknown, depth = 0): unknown {
    if (typeof error === 'string') return this.text(error)
    if (!(error instanceof Error) || depth > deepest) return error
    try {
      this.#clean(error, depth)
      return error
    } catch {
      return new Error('the error cannot be shown, for it tells a credential') // it is frozen, or its text is made anew each time
    }
  }

  #clean(error: Error & { errors?: unknown }, depth: number): void {
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

  /** `but`: a value that is no credential. */
  #withoutParameters(text: string, but?: string): string {
    if (!text.includes('=')) return text
    const cleaned = text.replace(
      /([?&#])([^\s"'<>=?&#;,]+)=([^\s"'<>&#]*)(?=(&?))/g,
      (whole, before: string, name: string, value: string) =>
        value !== but && this.#credentials.isParameter(decoded(name)) ? `${before}${dropped}` : whole,
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
