import type { RequestDirectives } from '../http/request-directives.js'

/** The moments that say how a stored answer may be used, milliseconds since 1970-01-01T00:00Z. */
export interface StoredTimes {
  /** When it arrived. */
  readonly storedAt: number
  /** When it was made or last confirmed, as far as can be known: its age counts from here (RFC 9111 section 4.2.3). */
  readonly bornAt: number
  /** Until when it is fresh (RFC 9111 section 4.2). */
  readonly freshUntil: number
  /** Until when it may be given out while it is refreshed (RFC 5861 section 3). */
  readonly refreshableUntil: number
  /** Until when it may be given out if a refresh fails (RFC 5861 section 4). */
  readonly usableUntil: number
  /** Until when it is worth keeping at all. */
  readonly keepUntil: number
  /** Whether the upstream forbids any use of it past its freshness (RFC 9111 section 5.2.2.2). */
  readonly mustRevalidate: boolean
  /** Whether it may be used only once the upstream has confirmed it, whatever its times say (RFC 9111 section 4.4). */
  readonly invalidated: boolean
}

/** How far two clocks that write to one store may differ before an entry "from the future" is distrusted, in milliseconds. */
const clockSkew = 5_000

/**
 * Whether an entry is fresh: by the rule it was stored under and by the present one, so that shortening `freshFor` takes effect at
 * once. One stored well after `now` is not: the clock was set back, and its times say nothing.
 */
export function isFresh(entry: StoredTimes, freshForMs: number, now: number): boolean {
  const sinceStored = now - entry.storedAt
  return !entry.invalidated && now < entry.freshUntil && sinceStored < freshForMs && sinceStored > -clockSkew
}

/** Whether an entry may be given out while it is refreshed, by the rule it was stored under and by the present one. */
export function isRefreshable(
  entry: StoredTimes,
  { freshForMs = 0, staleWhileRevalidateMs }: { readonly freshForMs: number | undefined; readonly staleWhileRevalidateMs: number },
  now: number,
): boolean {
  const sinceStored = now - entry.storedAt
  return !entry.invalidated && now < entry.refreshableUntil && sinceStored > -clockSkew && sinceStored < freshForMs + staleWhileRevalidateMs
}

/** Whether an entry may be given out when its refresh fails. What the request itself accepts counts before what was stored. */
export function isUsable(
  entry: StoredTimes,
  { freshForMs = 0, staleIfErrorMs }: { readonly freshForMs: number | undefined; readonly staleIfErrorMs: number },
  directives: RequestDirectives,
  now: number,
): boolean {
  const sinceStored = now - entry.storedAt
  if (entry.invalidated || sinceStored <= -clockSkew) return false
  if (directives.staleIfErrorMs !== undefined) return !entry.mustRevalidate && now < entry.freshUntil + directives.staleIfErrorMs
  return now < entry.usableUntil && sinceStored < freshForMs + staleIfErrorMs
}

/** The times of an entry that was used at `now`: fresh for `freshMs` from then on, but no longer than `capMs` after it was stored. */
export function slid<T extends StoredTimes>(times: T, freshMs: number, capMs: number, now: number): T {
  const more = Math.min(now + freshMs, times.storedAt + capMs) - times.freshUntil
  if (more <= 0) return times
  const { freshUntil, refreshableUntil, usableUntil, keepUntil } = times
  return {
    ...times,
    freshUntil: freshUntil + more,
    refreshableUntil: refreshableUntil + more,
    usableUntil: usableUntil + more,
    keepUntil: keepUntil + more,
  }
}

/** The times of an entry that was invalidated at `now`: its freshness has ended, and no option of a request brings it back. */
export function invalidatedTimes(times: StoredTimes, now: number): StoredTimes {
  const ended = Math.min(now, times.freshUntil)
  return { ...times, freshUntil: ended, refreshableUntil: ended, usableUntil: ended, invalidated: true }
}

/** The times of an entry whose freshness was ended at `now`: it is asked for again, and given out meanwhile only where that fails. */
export function expiredTimes(times: StoredTimes, now: number): StoredTimes {
  const { freshUntil, refreshableUntil } = times
  return { ...timesOf(times), freshUntil: Math.min(now, freshUntil), refreshableUntil: Math.min(now, refreshableUntil) }
}

/** Only the times, of something that has more. */
export function timesOf({
  storedAt,
  bornAt,
  freshUntil,
  refreshableUntil,
  usableUntil,
  keepUntil,
  mustRevalidate,
  invalidated,
}: StoredTimes): StoredTimes {
  return { storedAt, bornAt, freshUntil, refreshableUntil, usableUntil, keepUntil, mustRevalidate, invalidated }
}
