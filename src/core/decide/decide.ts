import type { RequestDirectives } from '../http/request-directives.js'
import type { BudgetLevel } from '../limits/budget.js'
import type { Mode } from '../rules/mode.js'
import { isFresh, isRefreshable, isUsable, type StoredTimes } from './entry-times.js'
import type { Reason } from './reasons.js'

/** What in a request keeps it from being answered out of the store, or its answer from being stored. */
export type Bypass = Extract<
  Reason,
  'no-store-asked' | 'range-asked' | 'condition-asked' | 'request-excepted' | 'called-by-itself' | 'may-write' | 'no-endpoint' | 'no-key'
>

/** What a request asks for that can be made from a whole stored answer, but never makes one. */
export type Excerpt = Extract<Reason, 'range-asked' | 'condition-asked' | 'head-asked'>

/** The facts known before anything is done about a call. */
export interface Facts {
  readonly mode: Mode
  /** How long the endpoint's answers are fresh at the most, milliseconds; undefined where none may be stored. */
  readonly freshForMs: number | undefined
  /** How long past its freshness the rule lets one be given out while it is refreshed, and when a refresh fails, milliseconds. */
  readonly staleWhileRevalidateMs: number
  readonly staleIfErrorMs: number
  /** How long before its end of freshness an answer in use is refreshed, milliseconds. */
  readonly refreshAheadMs: number
  readonly bypass: Bypass | undefined
  readonly excerpt: Excerpt | undefined
  readonly directives: RequestDirectives
  readonly entry: StoredTimes | undefined
  /** Whether the answers of the key vary by request fields; `entry` is then the one for the request's. */
  readonly varied: boolean
  /** Whether answers past their freshness are refused, by the rule or for this call. */
  readonly neverStale: boolean
  /** Whether calls to this upstream failed a moment ago, so that it is not asked. */
  readonly heldOff: boolean
  /** How far the budgets of the provider are spent, as far as is known here. */
  readonly budget: BudgetLevel
  readonly now: number
}

/** The `fwd` reasons of RFC 9211 section 2.2 in use. */
export type Forward = 'bypass' | 'uri-miss' | 'vary-miss' | 'stale' | 'request'

/**
 * How an upstream call is reused. `shared`: it may be one that is under way, and its answer is stored. `own`: it begins now, whatever
 * is under way, and its answer is stored. `none`: it is this caller's alone and nothing is stored.
 */
export type Reuse = 'shared' | 'own' | 'none'

export type Decision =
  /** `refresh`: a refresh begins, which the caller does not wait for. */
  | { readonly do: 'serve'; readonly how: 'hit' | 'stale'; readonly reason: Reason; readonly refresh?: boolean }
  | { readonly do: 'refuse'; readonly reason: Reason }
  | { readonly do: 'call'; readonly fwd: Forward; readonly reason: Reason; readonly reuse: Reuse }

/** Decides what is done about a call. */
export function decide(facts: Facts): Decision {
  const decision = facts.mode === 'offline' ? decideOffline(facts) : decideOnline(facts)
  if (decision.do !== 'call') return decision
  if (facts.directives.storedOnly) return { do: 'refuse', reason: 'stored-only-asked' }
  const touched = decision.reuse !== 'none'
  return touched && facts.excerpt ? { do: 'call', fwd: 'request', reason: facts.excerpt, reuse: 'none' } : decision
}

/** Why a call got no answer that the upstream could have given it. */
export type WithheldFor = 'limit-reached' | 'held-off' | 'budget-spent' | 'overdue'

/** The first row whose condition holds. */
function decideOnline(facts: Facts): Decision {
  const { entry, directives, now, heldOff, neverStale } = facts
  const saves = facts.budget === 'stretch' || facts.budget === 'stop'
  if (facts.bypass === 'no-endpoint' || facts.bypass === 'no-key') return { do: 'call', fwd: 'bypass', reason: facts.bypass, reuse: 'none' }
  if (facts.mode === 'measure') return { do: 'call', fwd: 'bypass', reason: 'measuring', reuse: 'none' }
  if (facts.bypass === 'may-write') return { do: 'call', fwd: 'bypass', reason: 'may-write', reuse: 'none' }
  if (facts.freshForMs === undefined) return { do: 'call', fwd: 'bypass', reason: 'not-reusable', reuse: 'none' }
  if (facts.bypass === 'request-excepted' || facts.bypass === 'called-by-itself')
    return { do: 'call', fwd: 'bypass', reason: facts.bypass, reuse: 'none' }
  if (facts.bypass) return { do: 'call', fwd: 'request', reason: facts.bypass, reuse: 'none' }
  if (directives.ask === 'reload') return { do: 'call', fwd: 'request', reason: 'reload-asked', reuse: 'own' }
  if (!entry && facts.varied) return { do: 'call', fwd: 'vary-miss', reason: 'no-variant', reuse: 'shared' }
  if (!entry) return { do: 'call', fwd: 'uri-miss', reason: 'absent', reuse: 'shared' }
  const fresh = isFresh(entry, facts.freshForMs, now)
  if (directives.anyAge && (fresh || (!neverStale && !entry.invalidated && !entry.mustRevalidate)))
    return { do: 'serve', how: fresh ? 'hit' : 'stale', reason: 'any-age-asked' }
  if (directives.ask === 'revalidate') return { do: 'call', fwd: 'request', reason: 'check-asked', reuse: 'own' }
  if (fresh && suits(entry, directives, now)) {
    const ahead = entry.freshUntil - now <= facts.refreshAheadMs && !directives.storedOnly && !facts.excerpt
    return { do: 'serve', how: 'hit', reason: 'fresh', ...(ahead && !heldOff && !saves && { refresh: true }) }
  }
  if (!neverStale && acceptsStale(entry, directives, now)) return { do: 'serve', how: 'stale', reason: 'stale-accepted' }
  if (fresh) return { do: 'call', fwd: 'request', reason: 'younger-asked', reuse: 'shared' }
  const mayBeStale = !neverStale && !refusesStale(entry, directives, now)
  if (mayBeStale && saves && !directives.storedOnly && (isRefreshable(entry, facts, now) || isUsable(entry, facts, directives, now))) {
    return { do: 'serve', how: 'stale', reason: facts.budget === 'stop' ? 'budget-spent' : 'budget-stretched' }
  }
  if (mayBeStale && !heldOff && isRefreshable(entry, facts, now)) {
    return { do: 'serve', how: 'stale', reason: 'refreshing', refresh: !directives.storedOnly && !facts.excerpt }
  }
  if (mayBeStale && heldOff && isUsable(entry, facts, directives, now)) return { do: 'serve', how: 'stale', reason: 'held-off' }
  return { do: 'call', fwd: 'stale', reason: 'expired', reuse: 'shared' }
}

/** Offline any stored answer is better than none. */
function decideOffline({ entry, freshForMs = 0, now }: Facts): Decision {
  if (!entry) return { do: 'refuse', reason: 'offline' }
  return isFresh(entry, freshForMs, now) ? { do: 'serve', how: 'hit', reason: 'fresh' } : { do: 'serve', how: 'stale', reason: 'offline' }
}

/** Decides what a caller gets when the upstream call failed. */
export function decideOnFailure(
  facts: Pick<Facts, 'mode' | 'entry' | 'freshForMs' | 'staleIfErrorMs' | 'directives' | 'neverStale' | 'now'> & {
    /** What went wrong, if not the upstream. */
    readonly failure?: WithheldFor | undefined
    /** Whether the endpoint has a default answer. */
    readonly fallback: boolean
  },
): { readonly do: 'serve' | 'fallback' | 'give-up'; readonly reason: Reason } {
  const { entry, directives, now, neverStale, failure, fallback, mode } = facts
  if (entry && !neverStale && !refusesStale(entry, directives, now) && isUsable(entry, facts, directives, now)) {
    return { do: 'serve', reason: failure ?? 'upstream-failed' }
  }
  if (fallback && mode !== 'measure') return { do: 'fallback', reason: 'default-given' }
  return { do: 'give-up', reason: 'no-older-answer' }
}

/** Whether a fresh answer is as young, and for as long fresh, as the request asks (RFC 9111 sections 5.2.1.1 and 5.2.1.3). */
function suits(entry: StoredTimes, { maxAgeMs, minFreshMs }: RequestDirectives, now: number): boolean {
  return (maxAgeMs === undefined || ageMs(entry, now) <= maxAgeMs) && (minFreshMs === undefined || entry.freshUntil - now >= minFreshMs)
}

/** Whether the request accepts an answer that is so far past its freshness (RFC 9111 section 5.2.1.2). */
function acceptsStale(entry: StoredTimes, { maxAgeMs, minFreshMs, maxStaleMs }: RequestDirectives, now: number): boolean {
  if (maxStaleMs === undefined || minFreshMs !== undefined || entry.mustRevalidate || entry.invalidated || now < entry.storedAt)
    return false
  const pastAllowedAge = maxAgeMs === undefined ? 0 : ageMs(entry, now) - maxAgeMs
  return Math.max(now - entry.freshUntil, pastAllowedAge) <= maxStaleMs
}

/** Whether the request rules out stale answers, even where the upstream fails. */
function refusesStale(entry: StoredTimes, { ask, maxAgeMs, minFreshMs, staleIfErrorMs }: RequestDirectives, now: number): boolean {
  if (ask !== undefined) return true
  return staleIfErrorMs === undefined && (minFreshMs !== undefined || (maxAgeMs !== undefined && ageMs(entry, now) > maxAgeMs))
}

/** How old an answer is (RFC 9111 section 4.2.3). */
export function ageMs({ bornAt }: Pick<StoredTimes, 'bornAt'>, now: number): number {
  return Math.max(0, now - bornAt)
}
