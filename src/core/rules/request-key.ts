import { canonicalKey } from './argument-key.js'
import { bodyKey } from './body-key.js'
import { digestOf } from './digest.js'
import type { CallerRule, KeyedRequest, Keying } from './keying.js'
import { normalisePercent, sortedParameters } from './normalise-url.js'

/**
 * The key of a request: its method and its normalised URL, without fragment, with the parameters that matter in the order of their
 * names, then what else of it matters. Credentials and cookies stand in it only as a one-way digest, which keeps callers with
 * different ones apart.
 */
export function requestKey(provider: CallerRule, keying: Keying, request: KeyedRequest): string {
  const secrets: string[] = []
  const place = placeOfRequest(provider, keying, request, secrets)
  return `${place}${bodyPart(keying, request)}${fieldParts(provider, keying, request)}${callerPart(provider, keying, request, secrets)}`
}

/**
 * What every key of a request's method and URL begins with, whoever calls and whatever else the request carries; a space or nothing
 * follows. `secrets` receives the credentials of the query.
 */
export function placeOfRequest(provider: CallerRule, keying: Keying, request: KeyedRequest, secrets: string[] = []): string {
  const { method, url } = request
  const parameters: string[] = []
  for (const { name, text } of sortedParameters(url)) {
    if (provider.secretQuery.has(name)) secrets.push(`?${text}`)
    else if (keying.usesParameter(name)) parameters.push(text)
  }
  if (keying.by) return `${method} ${canonicalKey({ ...keying.owner, prefix: 'by:' }, keying.by(request))}`
  return `${method} ${url.origin}${normalisePercent(url.pathname)}${parameters.length > 0 ? `?${parameters.join('&')}` : ''}`
}

/** The names of the query parameters that do not stand in the key's URL. */
export function leftOut({ secretQuery }: CallerRule, { by, usesParameter }: Keying, url: URL): string[] {
  const names = sortedParameters(url).map(({ name }) => name)
  return [...new Set(names)].filter((name) => by !== undefined || secretQuery.has(name) || !usesParameter(name))
}

function bodyPart({ by, pointers }: Keying, { body, header }: KeyedRequest): string {
  return by || !body || body.byteLength === 0 ? '' : ` body:${bodyKey(body, header('content-type'), pointers)}`
}

function fieldParts(provider: CallerRule, { headers, cookies, version }: Keying, request: KeyedRequest): string {
  let parts = version === undefined ? '' : ` version:${version}`
  const codings = request.header('accept-encoding')
  if (codings !== null) parts += ` accept-encoding:${JSON.stringify(codings)}`
  for (const name of headers) parts += ` ${name}:${JSON.stringify(fieldInKey(provider, name, request.header(name)))}`
  if (cookies.length > 0) {
    const sent = (request.header('cookie') ?? '').split(/;\s*/)
    const chosen = cookies.map((name) => sent.filter((cookie) => cookie.startsWith(`${name}=`)))
    parts += ` cookies:${digestOf(JSON.stringify(chosen))}`
  }
  return parts
}

function callerPart({ callerHeaders }: CallerRule, { shared, per }: Keying, request: KeyedRequest, secrets: string[]): string {
  let parts = per ? ` per:${JSON.stringify(String(per(request)))}` : ''
  if (shared) return parts
  for (const field of callerHeaders) {
    const value = request.header(field)
    if (value !== null) secrets.push(`${field}: ${value}`)
  }
  if (secrets.length > 0) parts += ` caller:${digestOf(JSON.stringify(secrets))}`
  return parts
}

/** Names of fields that carry credentials, whatever a provider calls them. */
const credentialName = /auth|cookie|key|token|secret|sign|credential|password|session/

/** A field's value as it stands in keys: one that says, or may say, who calls only as a digest. */
export function fieldInKey(provider: CallerRule | undefined, name: string, value: string | null): string | null {
  const isSecret = credentialName.test(name) || provider?.callerHeaders.includes(name) === true
  return value !== null && isSecret ? digestOf(value) : value
}
