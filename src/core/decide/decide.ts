import type { Mode } from './mode.js'
import type { Reason } from './reasons.js'

/** What of an entry matters for deciding. Times are milliseconds since 1970-01-01T00:00Z. */
export interface EntryTimes {
  readonly storedAt: number
  readonly freshUntil: number
  readonly usableUntil: number
}

/** What in a request keeps stored answers from being used. */
export type SpecialRequest = Extract<Reason, 'range-asked' | 'condition-asked' | 'reload-asked'>

/** The facts known before anything is done about a call. */
export interface Facts {
  readonly mode: Mode
  /** How long the endpoint's answers are fresh, milliseconds; undefined where none may be stored. */
  readonly freshForMs: number | undefined
  /** How long past its freshness one may be given out when a refresh fails, milliseconds. */
  readonly staleIfErrorMs: number
  /** What in the request keeps stored answers from being used, if anything does. */
  readonly special: SpecialRequest | undefined
  readonly entry: EntryTimes | undefined
  /** Whether the answers of the key vary by request fields; `entry` is then the one for the request's. */
  readonly varied: boolean
  /** Until when nobody asks this upstream again for a refresh. */
  readonly heldOffUntil: number
  readonly now: number
}

/** The `fwd` reasons of RFC 9211 section 2.2 in use. */
export type Forward = 'bypass' | 'uri-miss' | 'vary-miss' | 'stale' | 'request'

export type Decision =
  | { readonly do: 'serve'; readonly how: 'hit' | 'stale'; readonly reason: Reason }
  | { readonly do: 'refuse'; readonly reason: Reason }
  | { readonly do: 'call'; readonly fwd: Forward; readonly reason: Reason; readonly reuse: boolean }

/** Decides what is done about a call: the first row whose condition holds. */
export function decide(facts: Facts): Decision {
  const { entry, now } = facts
  if (facts.mode === 'offline') return decideOffline(facts)
  if (facts.mode === 'measure') return { do: 'call', fwd: 'bypass', reason: 'measuring', reuse: false }
  if (facts.freshForMs === undefined) return { do: 'call', fwd: 'bypass', reason: 'not-reusable', reuse: false }
  if (facts.special) return { do: 'call', fwd: 'request', reason: facts.special, reuse: false }
  if (!entry && facts.varied) return { do: 'call', fwd: 'vary-miss', reason: 'no-variant', reuse: true }
  if (!entry) return { do: 'call', fwd: 'uri-miss', reason: 'absent', reuse: true }
  if (isFresh(entry, facts.freshForMs, now)) return { do: 'serve', how: 'hit', reason: 'fresh' }
  if (now < facts.heldOffUntil && isUsable(entry, facts, now)) return { do: 'serve', how: 'stale', reason: 'held-off' }
  return { do: 'call', fwd: 'stale', reason: 'expired', reuse: true }
}

/** Offline any stored answer is better than none. */
function decideOffline({ entry, freshForMs = 0, now }: Facts): Decision {
  if (!entry) return { do: 'refuse', reason: 'offline' }
  return isFresh(entry, freshForMs, now) ? { do: 'serve', how: 'hit', reason: 'fresh' } : { do: 'serve', how: 'stale', reason: 'offline' }
}

/** Decides what a caller gets when the upstream call failed. */
export function decideOnFailure(facts: Omit<Facts, 'special' | 'heldOffUntil' | 'varied'>): {
  readonly do: 'serve' | 'give-up'
  readonly reason: Reason
} {
  return facts.entry && isUsable(facts.entry, facts, facts.now)
    ? { do: 'serve', reason: 'upstream-failed' }
    : { do: 'give-up', reason: 'no-older-answer' }
}

/** How far two clocks that write to one store may differ before an entry "from the future" is distrusted, in milliseconds. */
const clockSkew = 5_000

/**
 * Whether an entry is fresh: by the rule it was stored under and by the present one, so that shortening `freshFor` takes effect at
 * once. One stored well after `now` is not: the clock was set back, and its times say nothing.
 */
export function isFresh(entry: EntryTimes, freshForMs: number, now: number): boolean {
  const age = now - entry.storedAt
  return now < entry.freshUntil && age < freshForMs && age > -clockSkew
}

function isUsable(
  entry: EntryTimes,
  { freshForMs = 0, staleIfErrorMs }: Pick<Facts, 'freshForMs' | 'staleIfErrorMs'>,
  now: number,
): boolean {
  const age = now - entry.storedAt
  return now < entry.usableUntil && age < freshForMs + staleIfErrorMs && age > -clockSkew
}
