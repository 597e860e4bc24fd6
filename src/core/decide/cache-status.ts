import type { Outcome } from './outcome.js'

/** The value of a `Cache-Status` field for an outcome (RFC 9211 section 2). Every part is an sf-token or sf-integer. */
export function cacheStatus(outcome: Outcome, now: number): string {
  const parts = ['stashen']
  if (outcome.fwd === undefined) {
    if (outcome.how !== 'refused') parts.push('hit')
  } else {
    parts.push(`fwd=${outcome.fwd}`)
    if (outcome.upstreamStatus !== undefined) parts.push(`fwd-status=${outcome.upstreamStatus}`)
    if (outcome.stored) parts.push('stored')
    if (outcome.how === 'collapsed') parts.push('collapsed')
  }
  if (outcome.freshUntil !== undefined) parts.push(`ttl=${Math.floor((outcome.freshUntil.getTime() - now) / 1000)}`)
  parts.push(`detail=${outcome.reason}`)
  return parts.join('; ')
}
