import { canonicalKey } from './argument-key.js'
import { bodyKey } from './body-key.js'
import { looksRandom } from './credentials.js'
import { digestAgain } from './digest.js'
import { choosesNothing } from './fields-left-out.js'
import { type CallerRule, type KeyedRequest, type Keying, type SentRequest, selects } from './keying.js'
import { decoded, normalisePercent, type Parameter, pathParameter, sortedParameters } from './normalise-url.js'
import { mentions, secretsOf } from './secrets.js'

/**
 * The key of a request: its method and its normalised URL, without fragment, with the parameters that matter in the order of their
 * names; its provider and endpoint; then what else of it matters. Credentials and cookies stand in it only as a one-way digest, which
 * keeps callers with different ones apart.
 */
export function requestKey(provider: CallerRule, keying: Keying, request: SentRequest): string {
  const parameters = sortedParameters(request.url)
  const place = placeOfRequest(provider, keying, request, parameters)
  const digests = `${hiddenParameters(provider, keying, parameters)}${bodyPart(keying, request)}${fieldParts(provider, keying, request)}`
  return `${place}${digests}${callerPart(provider, keying, request, parameters)}`
}

/**
 * What every key of a request's method and URL begins with, whoever calls and whatever else the request carries; a space or nothing
 * follows.
 */
export function placeOfRequest(
  provider: CallerRule,
  keying: Keying,
  request: KeyedRequest,
  all: readonly Parameter[] = sortedParameters(request.url),
): string {
  const { method, url } = request
  const owner = `${keying.owner.provider}.${keying.owner.name}`
  if (keying.by) {
    const by = canonicalKey({ ...keying.owner, prefix: 'by:' }, keying.by(request))
    return `${method} ${withoutSecrets(provider, request, by)} ${owner}`
  }
  let query = ''
  for (const { name, text } of all)
    if (isShown(provider, keying, name, text) && counts(keying, name)) query += `${query === '' ? '?' : '&'}${text}`
  if (all.length === 0 && asksNothing(url)) query = '?'
  return `${method} ${url.origin}${pathInKey(provider, url)}${query} ${owner}`
}

/** The path of a URL as it stands in keys, without the credentials in its segments. */
export function pathInKey({ credentials }: Pick<CallerRule, 'credentials'>, { pathname }: URL): string {
  const path = normalisePercent(pathname)
  return path.includes(';')
    ? path.replace(pathParameter, (whole, name: string) => (credentials.isParameter(decoded(name)) ? '' : whole))
    : path
}

/** Whether a parameter stands in keys as it is. Those by which endpoints are found stand in their configuration. */
function isShown({ credentials }: CallerRule, { fixed }: Keying, name: string, text: string): boolean {
  if (credentials.isParameter(name)) return false
  return fixed.includes(name) || !credentials.hides(name, decodedValue(text))
}

function decodedValue(text: string): string {
  return decoded(text.slice(text.indexOf('=') + 1))
}

/** The parameters that may say who calls, and are no credentials; what may be a credential counts even where it is not listed. */
function hiddenParameters(provider: CallerRule, keying: Keying, all: readonly Parameter[]): string {
  const { credentials } = provider
  let parts = ''
  for (const { name, text } of all) {
    if (credentials.isParameter(name) || isShown(provider, keying, name, text)) continue
    if ((keying.by === undefined && counts(keying, name)) || credentials.isDoubtful(name))
      parts += ` ?${text.split('=', 1)}:${digestAgain(text)}`
  }
  return parts
}

function counts({ fixed, usesParameter }: Keying, name: string): boolean {
  return fixed.includes(name) || usesParameter(name)
}

/** Whether a URL has a query, and nothing in it. */
function asksNothing({ href }: URL): boolean {
  const end = href.indexOf('#')
  return href[(end < 0 ? href.length : end) - 1] === '?'
}

/** The names of the query parameters that do not stand in the key's URL. */
export function leftOut({ credentials }: CallerRule, keying: Keying, url: URL): string[] {
  const names = sortedParameters(url).map(({ name }) => name)
  return [...new Set(names)].filter(
    (name) => credentials.isParameter(name) || !((keying.by === undefined && counts(keying, name)) || credentials.isDoubtful(name)),
  )
}

function bodyPart({ by, pointers }: Keying, { body, header, identity }: SentRequest): string {
  const named = identity ? ` call:${digestAgain(identity.name)}` : '' // whatever else a rule says of bodies
  const its = identity?.body ?? body
  return by || !its || its.byteLength === 0 ? named : `${named} body:${bodyKey(its, header, pointers)}`
}

/** Fields that always matter: by the one bytes differ, by the other what a browser lets a page see. */
const everyKeys = ['accept-encoding', 'origin']

/** Fields that say what a body is. */
const ofBody = ['content-type', 'content-encoding']

/** Whether requests that differ in a field have different keys by it. */
export function isInKey({ headers, usesField, by }: Keying, name: string): boolean {
  return everyKeys.includes(name) || (headers ? headers.includes(name) : by === undefined && usesField(name))
}

function fieldParts(provider: CallerRule, keying: Keying, request: SentRequest): string {
  const { headers = [], cookies, version } = keying
  const { credentials } = provider
  let parts = version === undefined ? '' : ` version:${version}`
  const part = (name: string, value: string | null) => {
    parts += ` ${name}:${JSON.stringify(fieldInKey(name, value))}`
  }
  for (const [name, value] of request.fields) {
    if (headers.includes(name) || credentials.isField(name)) continue // which say who calls
    if (request.body && ofBody.includes(name)) continue // which count with it
    if (isInKey(keying, name) || (credentials.isDoubtful(name) && !choosesNothing(name))) part(name, value)
  }
  for (const name of headers) part(name, request.header(name))
  if (cookies.length > 0) {
    const sent = (request.header('cookie') ?? '').split(/;\s*/)
    const chosen = cookies.map((name) => sent.filter((cookie) => cookie.startsWith(`${name}=`)))
    parts += ` cookies:${digestAgain(JSON.stringify(chosen))}`
  }
  return parts
}

function callerPart(provider: CallerRule, { shared, per }: Keying, request: SentRequest, all: readonly Parameter[]): string {
  const parts = per ? ` per:${withoutSecrets(provider, request, JSON.stringify(textOf(per(request), 'per')))}` : ''
  const named = provider.caller && !shared ? ` caller:${digestAgain(textOf(provider.caller(request), 'caller'))}` : ''
  const secrets = secretsThatCount(provider, shared || provider.caller !== undefined, request, all)
  return `${parts}${named}${secrets.length > 0 ? ` ${named === '' ? 'caller' : 'secrets'}:${digestAgain(JSON.stringify(secrets))}` : ''}`
}

/** The credentials of a request by which it differs from others. Where these do not matter, what may be data by its name still does. */
function secretsThatCount(
  { credentials }: CallerRule,
  onlyDoubtful: boolean,
  { url, fields }: SentRequest,
  all: readonly Parameter[],
): string[] {
  const secrets: string[] = []
  if (!onlyDoubtful && url.href.includes('@') && (url.username !== '' || url.password !== ''))
    secrets.push(`@${url.username}:${url.password}`)
  if (url.pathname.includes(';'))
    for (const [text, name = ''] of url.pathname.matchAll(pathParameter))
      if (credentials.isParameter(decoded(name)) && !(onlyDoubtful && credentials.isCertainParameter(decoded(name)))) secrets.push(text)
  for (const { name, text } of all)
    if (credentials.isParameter(name) && !(onlyDoubtful && credentials.isCertainParameter(name))) secrets.push(`?${text}`)
  for (const [name, value] of fields)
    if (credentials.isField(name) && !(onlyDoubtful && credentials.isCertainField(name))) secrets.push(`${name}: ${value}`)
  return secrets
}

function textOf(said: unknown, option: string): string {
  if (typeof said !== 'string') throw new TypeError(`its "${option}" function returned no text`)
  return said
}

/** A field's value as it stands in keys: as a digest, unless it says nothing of who calls. */
export function fieldInKey(name: string, value: string | null): string | null {
  const isShown = value === null || ((selects(name) || everyKeys.includes(name)) && !looksRandom(value))
  return isShown ? value : digestAgain(value)
}

/** A text that a function of the configuration made of a request, or its digest where it repeats a credential. */
function withoutSecrets(provider: CallerRule, request: KeyedRequest, text: string): string {
  const { fields } = request as Partial<SentRequest>
  return fields && mentions(text, secretsOf(provider.credentials, { ...request, fields })) ? `digest:${digestAgain(text)}` : text
}
