import { type Exchange, initialAgeMs } from '../http/age.js'
import { type Fields, fieldValue, type LifetimeSource } from '../http/stored-head.js'
import { type Audience, type UpstreamDirectives, upstreamDirectives } from '../http/upstream-directives.js'
import { type AnswerFacts, type Freshness, freshUntilOf } from '../rules/freshness.js'
import { yesOrNo } from '../rules/yes-or-no.js'
import type { StoredTimes } from './entry-times.js'
import type { Trust } from './trust.js'

/** Why an answer was not stored. */
export type NotKept =
  /** A status whose answers are not kept, by the rule or because the upstream gives no lifetime. */
  | 'status'
  /** `Vary: *`. */
  | 'varies'
  /** 206: a part. */
  | 'partial'
  /** The upstream forbids it: `no-store`; `private`, or an answer to `Authorization`, where callers share. */
  | 'no-store'
  | 'private'
  | 'authorization'
  /** `must-understand` on a status that Stashen does not know. */
  | 'not-understood'
  /** Nothing says how long it is fresh. */
  | 'no-freshness'
  /** The rule excepts such answers. */
  | 'excepted'
  /** Its body is larger than `maxBodyBytes`. */
  | 'too-large'
  /** Its body broke off. */
  | 'broke-off'
  /** It says that it failed, by the endpoint's `failsWhen`, or claims to be JSON but does not parse. */
  | 'failed'
  /** A write to the same URL, or a newer call, made it out of date before it was complete. */
  | 'out-of-date'
  /** The value of an operation that cannot be given back exactly as it was: functions, instances of classes. */
  | 'inexact'
  /** A link or redirect in it goes by a credential that is not the request's: without it the answer would be another. See `notSecret`. */
  | 'secret'
  /** It was reached through a redirect, and what the redirect allows is not known. */
  | 'redirected'
  /** Its callers left before its end. */
  | 'abandoned'
  /** Something went wrong while it was stored: see what `warn` was told. */
  | 'trouble'
  /** The response to this call is never stored. */
  | 'not-reusable'

/** What of a rule matters for keeping answers, compiled. Durations are milliseconds. */
export interface KeepRule {
  readonly trust: Trust
  readonly freshness: Freshness | undefined
  /** Freshness by status, where it is another; `never` where such answers are not kept. */
  readonly freshForStatus: ReadonlyMap<number, number | 'never'>
  readonly staleWhileRevalidateMs: number
  readonly staleIfErrorMs: number
  readonly exceptAnswer: ((answer: AnswerFacts) => boolean) | undefined
  readonly audience: Audience
}

/** What of an HTTP exchange matters for keeping its answer. */
export interface HttpExchange extends Exchange {
  readonly status: number
  /** The answer's fields; after a 304, those brought up to date by it. */
  readonly fields: Fields
  /** The fields of the answer that arrived, be it a 304: how old it is stands in them. */
  readonly arrived: Fields
  readonly authorized: boolean
  readonly vary: readonly string[] | '*'
  /** Whether a link in it needs a credential that must not be stored. */
  readonly linksBySecret: boolean
  /** Whether a redirect led to it. */
  readonly redirected: boolean
}

/** The times that an answer is kept with, and the fields that are not kept with it. */
export interface Keeping extends StoredTimes {
  readonly freshBy: 'rule' | LifetimeSource
  readonly withheld: readonly string[]
}

/** How an upstream answer counts: 429 is a refusal, 5xx a failure (RFC 9110 section 15.6), as are those of a rule; all else an answer. */
export function resultOfStatus(status: number, failures?: ReadonlySet<number>): 'answered' | 'refused' | 'failed' {
  if (status === 429) return 'refused'
  return status >= 500 || failures?.has(status) ? 'failed' : 'answered'
}

/** How the value of an operation that came at `now` is kept. Throws what a function of the rule throws. */
export function keepValue(rule: KeepRule, key: string, value: AnswerFacts, now: number): Keeping | NotKept {
  if (yesOrNo(rule.exceptAnswer?.(value), 'exceptAnswer')) return 'excepted'
  const freshUntil = rule.freshness && freshUntilOf(rule.freshness, key, value, now)
  return freshUntil === undefined ? 'no-freshness' : byRule(rule, freshUntil, now, now)
}

/** Statuses whose answers no cache may store (RFC 6585 sections 3 to 6). */
const neverStored = [428, 429, 431, 511]

/** How an HTTP answer is kept, or why it is not. Throws what a function of the rule throws. */
export function keepAnswer(rule: KeepRule, key: string, answer: AnswerFacts, http: HttpExchange): Keeping | NotKept {
  const { status, vary, answeredAt } = http
  if (status === 206 || status === 304) return 'partial'
  if (status < 200 || neverStored.includes(status)) return 'status'
  if (vary === '*') return 'varies'
  if (http.linksBySecret) return 'secret'
  if (rule.freshForStatus.get(status) === 'never') return 'status'
  if (yesOrNo(rule.exceptAnswer?.(answer), 'exceptAnswer')) return 'excepted'
  const bornAt = answeredAt - initialAgeMs(http.arrived, http)
  const ruled = ruledUntil(rule, key, answer, http)
  if (rule.trust === 'rule') return ruled === undefined ? 'status' : worthKeeping(byRule(rule, ruled, answeredAt, bornAt), http)
  if (http.redirected) return 'redirected' // each hop may have allowed less, and `fetch` does not show them
  const word = upstreamDirectives(http, rule.audience)
  if (word.forbidden && !(word.forbidden === 'status' && ruled !== undefined)) return word.forbidden
  const said = word.lifetimeMs === undefined ? undefined : bornAt + word.lifetimeMs
  const both = rule.trust === 'shorter' && ruled !== undefined && said !== undefined
  const freshUntil = both ? Math.min(ruled, said) : (said ?? ruled ?? (word.guessedMs === undefined ? undefined : bornAt + word.guessedMs))
  const freshBy = freshUntil === ruled && freshUntil !== said ? 'rule' : word.source
  if (status >= 400 && resultOfStatus(status) !== 'answered' && said === undefined) return 'status'
  return worthKeeping(withWord(rule, word, { freshUntil: freshUntil ?? bornAt, answeredAt, bornAt, freshBy, status }), http)
}

/** Until when the rule says an answer is fresh; undefined where it is silent: only successes are kept unless it names the status. */
function ruledUntil(
  { freshness, freshForStatus }: KeepRule,
  key: string,
  answer: AnswerFacts,
  { status, answeredAt }: HttpExchange,
): number | undefined {
  const ms = freshForStatus.get(status)
  if (typeof ms === 'number') return answeredAt + ms
  return freshness && status < 300 ? freshUntilOf(freshness, key, answer, answeredAt) : undefined
}

function byRule(rule: KeepRule, freshUntil: number, storedAt: number, bornAt: number): Keeping {
  const refreshableUntil = freshUntil + rule.staleWhileRevalidateMs
  const usableUntil = freshUntil + rule.staleIfErrorMs
  const keepUntil = Math.max(refreshableUntil, usableUntil)
  return {
    storedAt,
    bornAt,
    freshUntil,
    refreshableUntil,
    usableUntil,
    keepUntil,
    mustRevalidate: false,
    invalidated: false,
    freshBy: 'rule',
    withheld: [],
  }
}

interface Lifetime {
  readonly freshUntil: number
  readonly answeredAt: number
  readonly bornAt: number
  readonly freshBy: Keeping['freshBy']
  readonly status: number
}

/** What the upstream says of stale answers counts; with `shorter`, as far as the rule goes along. */
function withWord(rule: KeepRule, word: UpstreamDirectives, { freshUntil, answeredAt, bornAt, freshBy, status }: Lifetime): Keeping {
  const failure = resultOfStatus(status) !== 'answered'
  const longest = (said: number | undefined, ruled: number) =>
    word.mustRevalidate || failure ? 0 : rule.trust === 'shorter' ? Math.min(said ?? ruled, ruled) : (said ?? ruled)
  const refreshableUntil = freshUntil + longest(word.staleWhileRevalidateMs, rule.staleWhileRevalidateMs)
  const usableUntil = freshUntil + longest(word.staleIfErrorMs, rule.staleIfErrorMs)
  return {
    ...{ storedAt: answeredAt, bornAt, freshUntil, refreshableUntil, usableUntil, freshBy, withheld: word.withheld },
    keepUntil: Math.max(refreshableUntil, usableUntil),
    mustRevalidate: word.mustRevalidate,
    invalidated: false,
  }
}

/** How long past its freshness an answer is kept that the upstream can confirm, milliseconds. */
const keepForCheckingMs = 7 * 86_400_000

/** An answer that can be confirmed later is kept longer; one that is neither fresh, nor usable, nor can be confirmed is not kept. */
function worthKeeping(keeping: Keeping, { fields, answeredAt }: HttpExchange): Keeping | NotKept {
  const checkable = ['etag', 'last-modified'].some((name) => fieldValue(fields, name) !== undefined)
  if (checkable) return { ...keeping, keepUntil: Math.max(keeping.keepUntil, answeredAt) + keepForCheckingMs }
  return keeping.keepUntil > answeredAt ? keeping : 'no-freshness'
}
