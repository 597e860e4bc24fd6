import type { Call } from '../call/call.js'
import type { WithAnswer } from '../call/fetched.js'
import type { Landed } from '../upstream/landed.js'
import type { Place } from '../upstream/place.js'

/** Whether the answer of a call that another caller began is meant for this caller too (RFC 9111 section 4.1). */
export function isFor(call: Call<unknown>, { base, key }: Place, { vary }: { vary?: readonly string[] | '*' }): boolean {
  if (vary === undefined) return true
  return vary !== '*' && (vary.length === 0 || call.variantKey(base, vary) === key)
}

/**
 * Whether callers who waited for an answer may have it without asking themselves: where the upstream decides reuse, only one that may be
 * stored and used again now (RFC 9111 sections 3, 3.5 and 4).
 */
export function isShareable(
  call: Call<unknown>,
  { place }: Pick<Landed<unknown>, 'place'>,
  fetched: WithAnswer<unknown>,
  now: number,
): boolean {
  if (call.endpoint.trust === 'rule' || fetched.result !== 'answered') return true
  try {
    const keeping = fetched.judged?.(place.key)
    return keeping !== undefined && typeof keeping !== 'string' && keeping.freshUntil > now
  } catch {
    return false
  }
}
