import { parseDictionary, parseList } from 'structured-headers'
import { parseHttpDate } from '../http/http-date.js'
import { type Fields, fieldValue } from '../http/stored-head.js'
import { quotaId } from './limit.js'
import type { Quota } from './quota.js'

/** What a provider says of one of its limits. Moments are milliseconds since 1970-01-01T00:00Z by this machine's clock. */
export interface ReportedLimit {
  /** The provider's name of it; empty where it has none. */
  readonly name: string
  /** Calls left until then. */
  readonly left: number
  readonly until: number
  /** Calls allowed in the whole window, where that is said. */
  readonly calls?: number | undefined
}

/** What an answer says of the provider's limits. */
export interface Reported {
  readonly limits: readonly ReportedLimit[]
  /** When to ask again at the earliest, where the answer is a refusal that says so. */
  readonly notBefore: number | undefined
}

/** Whether a refusal tells when to come back. */
export function saysWhen({ limits, notBefore }: Reported): boolean {
  return notBefore !== undefined || limits.some(({ left }) => left < 1)
}

/** Whether an answer says anything of limits. */
export function reportsAnything({ limits, notBefore }: Reported): boolean {
  return notBefore !== undefined || limits.length > 0
}

/** Waits longer than this are taken for mistakes. */
const longestWaitMs = 31 * 86_400_000

/**
 * Reads `RateLimit` and `RateLimit-Policy` (IETF httpapi draft "RateLimit header fields for HTTP"), else the widespread
 * `X-RateLimit-*` fields, and on 429 and 503 `Retry-After` (RFC 9110 section 10.2.3).
 */
export function reportedBy(status: number, fields: Fields, now: number, quota?: ReportedQuota): Reported {
  const asked = parseHttpDate(fieldValue(fields, 'date'), now)
  const skewMs = asked === undefined ? 0 : now - asked
  const limits = standardLimits(fields, now) ?? customaryLimits(fields, now, skewMs)
  const sound = limits.filter(({ left, until }) => Number.isFinite(left) && until > now && until - now <= longestWaitMs)
  return {
    limits: quota ? withQuota(sound, quota, fields, now) : sound,
    notBefore: status === 429 || status === 503 ? retryAfter(fieldValue(fields, 'retry-after'), now, skewMs) : undefined,
  }
}

/** A quota of a provider, and the header field in which answers say what is left of it, if there is one of its own. */
export interface ReportedQuota extends Quota {
  readonly header: string | undefined
  /** When its present period ends. */
  readonly endAt: (now: number) => number
}

/** What is said of the quota goes by its name, so that it is compared with what is counted here. */
function withQuota(limits: readonly ReportedLimit[], quota: ReportedQuota, fields: Fields, now: number): ReportedLimit[] {
  const name = quotaId(quota.per)
  const own = quota.header === undefined ? undefined : fieldValue(fields, quota.header)?.trim()
  if (own !== undefined && /^\d{1,15}$/.test(own)) return [...limits, { name, left: Number(own), until: quota.endAt(now) }]
  return limits.map((limit) => (limit.calls === quota.calls ? { name, left: limit.left, until: limit.until } : limit))
}

/** `Retry-After`: seconds, or an HTTP-date by the upstream's clock, which is `skewMs` behind this one. */
function retryAfter(value: string | undefined, now: number, skewMs: number): number | undefined {
  const text = value?.trim() ?? ''
  const date = parseHttpDate(text, now)
  const at = /^\d+$/.test(text) ? now + Number(text) * 1000 : date === undefined ? undefined : date + skewMs
  return at === undefined || at <= now || at - now > longestWaitMs ? undefined : at
}

/** Undefined where there are none, or they do not parse. */
function standardLimits(fields: Fields, now: number): ReportedLimit[] | undefined {
  const value = fieldValue(fields, 'ratelimit')
  if (value === undefined) return undefined
  try {
    const policies = new Map(itemsOf(fieldValue(fields, 'ratelimit-policy')).map(([name, parameters]) => [name, parameters.get('q')]))
    const items = itemsOf(value)
    const calls = (name: string) => numberOf(policies.get(name))
    const named = items.flatMap(([name, parameters]): ReportedLimit[] => {
      const [left, seconds] = [numberOf(parameters.get('r')), numberOf(parameters.get('t'))]
      return left === undefined || seconds === undefined ? [] : [{ name, left, until: now + seconds * 1000, calls: calls(name) }]
    })
    return named.length > 0 ? named : earlierForm(value, now)
  } catch {
    return undefined
  }
}

/** `limit=100, remaining=50, reset=5`, as earlier drafts had it. */
function earlierForm(value: string, now: number): ReportedLimit[] | undefined {
  const said = parseDictionary(value)
  const number = (name: string) => numberOf(said.get(name)?.[0])
  const [left, seconds] = [number('remaining'), number('reset')]
  return left === undefined || seconds === undefined ? undefined : [{ name: '', left, until: now + seconds * 1000, calls: number('limit') }]
}

function itemsOf(value: string | undefined): [string, ReadonlyMap<string, unknown>][] {
  if (value === undefined) return []
  try {
    return parseList(value).flatMap(([name, parameters]): [string, ReadonlyMap<string, unknown>][] =>
      Array.isArray(name) ? [] : [[String(name), parameters]],
    )
  } catch {
    return []
  }
}

const prefixes = ['ratelimit-', 'x-ratelimit-', 'x-rate-limit-']

/** `X-RateLimit-Limit`, `-Remaining` and `-Reset`, however they are spelt; the last in seconds, as a moment or as a date. */
function customaryLimits(fields: Fields, now: number, skewMs: number): ReportedLimit[] {
  return prefixes.flatMap((prefix): ReportedLimit[] => {
    const number = (name: string) => wholeNumber(fieldValue(fields, prefix + name))
    const left = number('remaining')
    const until = resetAt(fieldValue(fields, `${prefix}reset`), now, skewMs)
    return left === undefined || until === undefined ? [] : [{ name: prefix, left, until, calls: number('limit') }]
  })
}

/**
 * Numbers from a billion on are moments, in seconds since 1970 (2001 and later), from a thousand billion on in milliseconds; smaller
 * ones are seconds from now. All else is a date, as in HTTP or by ISO 8601.
 */
function resetAt(value: string | undefined, now: number, skewMs: number): number | undefined {
  const text = value?.trim() ?? ''
  if (text === '') return undefined
  if (/^\d+(\.\d+)?$/.test(text)) {
    const number = Number(text)
    return number < 1e9 ? now + number * 1000 : (number < 1e12 ? number * 1000 : number) + skewMs
  }
  const iso = /^\d{4}-\d{2}-\d{2}[t ]/i.test(text) ? Date.parse(text) : Number.NaN
  const date = Number.isNaN(iso) ? parseHttpDate(text, now) : iso
  return date === undefined ? undefined : date + skewMs
}

/** The first of several, such as `100, 100;w=60`. */
function wholeNumber(value: string | undefined): number | undefined {
  const [digits] = /^\s*\d+/.exec(value ?? '') ?? []
  return digits === undefined ? undefined : Number(digits)
}

function numberOf(value: unknown): number | undefined {
  return typeof value === 'number' && value >= 0 ? value : undefined
}
