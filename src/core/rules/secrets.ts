import { type Credentials, looksRandom } from './credentials.js'
import { choosesNothing } from './fields-left-out.js'
import { decoded, pathParameter, sortedParameters } from './normalise-url.js'

/** What of a request may carry credentials. */
export interface SecretsCarrier {
  readonly url: URL
  readonly fields: Iterable<readonly [name: string, value: string]>
}

/** Shorter values than these are found in texts by accident. */
const [shortest, shortestPart] = [6, 8]

/** The credentials of a request, in each form that another text could repeat; the longest first. */
export function secretsOf(credentials: Credentials, { url, fields }: SecretsCarrier): string[] {
  const found = new Set<string>()
  const add = (value: string, least = shortest) => {
    for (const form of [value, decoded(value), encoded(value)]) if (form.length >= least) found.add(form)
  }
  for (const [name, value] of fields) {
    const isMeant = credentials.isField(name) || (mayBeSecret(credentials, name, value) && !choosesNothing(name))
    if (!isMeant || (isPlain(value) && !credentials.isCertainField(name))) continue
    const [, token = value] = /^\S+\s+(.+)$/.exec(value) ?? [] // without the scheme, as of "Bearer"
    for (const whole of [value, token]) add(whole)
    for (const [, part = ''] of token.matchAll(/=\s*"?([^",;\s]+)/g)) add(part, shortestPart)
    const [, password = ''] = /^[^:]*:(.*)$/s.exec(/^basic\s/i.test(value) ? basicOf(token) : '') ?? []
    add(password)
  }
  for (const { name, text } of sortedParameters(url)) {
    const value = text.slice(text.indexOf('=') + 1)
    const isMeant = credentials.isParameter(name) || mayBeSecret(credentials, name, decoded(value))
    if (isMeant && (credentials.isCertainParameter(name) || !isPlain(value))) add(value)
  }
  for (const [text, name = ''] of url.pathname.matchAll(pathParameter))
    if (credentials.isParameter(decoded(name))) add(text.slice(text.indexOf('=') + 1))
  for (const part of [url.username, url.password]) add(part)
  return [...found].sort((a, b) => b.length - a.length)
}

function mayBeSecret(credentials: Credentials, name: string, value: string): boolean {
  return credentials.isDoubtful(name) || (looksRandom(value) && !credentials.isCleared(name))
}

/** Whether a value is a word or a number, which stands in other texts by accident: by a name that may be data, it is taken for that. */
function isPlain(value: string): boolean {
  return value.length < 20 && /^([a-z]+|\d+)$/i.test(value)
}

export function mentions(text: string, secrets: readonly string[]): boolean {
  return secrets.some((secret) => text.includes(secret))
}

/** What stands in texts for a credential. */
export const secretText = '[secret]'

/** A text with each credential in it replaced. */
export function redacted(text: string, secrets: readonly string[]): string {
  return secrets.reduce((rest, secret) => rest.replaceAll(secret, secretText), text)
}

function encoded(value: string): string {
  try {
    return encodeURIComponent(value)
  } catch {
    return value
  }
}

/** User and password of `Basic` (RFC 7617), or nothing. */
function basicOf(token: string): string {
  try {
    return atob(token)
  } catch {
    return ''
  }
}
