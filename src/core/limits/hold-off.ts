/** The pause after failures, in which nobody asks: plain data, milliseconds since 1970-01-01T00:00Z. */
export interface HoldOff {
  /** Failures since the last success. */
  readonly failures: number
  /** When the last of them became known. */
  readonly at: number
  readonly until: number
  /** While one call tries whether it is over: until when its answer is waited for. */
  readonly trialUntil?: number | undefined
  /** Whether the provider saw nothing of the call that failed last. */
  readonly unreached?: boolean | undefined
}

/** How long the first pause is, and how long one can become. */
export interface HoldOffRule {
  readonly firstMs: number
  readonly upToMs: number
}

/** Leases end at so many moments in their length, so that calls under way are counted in groups, however many there are. */
const leaseSteps = 16

/** When a call that begins at `now` is taken to have ended, unless it is heard of: after its lease, and up to a step later. */
export function leaseEnd(now: number, leaseMs: number): number {
  const step = Math.max(1, Math.ceil(leaseMs / leaseSteps))
  return Math.ceil((now + leaseMs) / step) * step
}

/** When to look again, where a call may not go out; undefined where it may, as the one that tries. `leaseMs`: the longest that a trial can take. */
export function heldOffUntil(
  holdOff: HoldOff | undefined,
  { upToMs }: HoldOffRule,
  now: number,
  leaseMs = Number.POSITIVE_INFINITY,
): number | undefined {
  if (!holdOff) return undefined
  if (now < holdOff.until && holdOff.until - now <= upToMs) return holdOff.until // else the clock was set back
  const { trialUntil } = holdOff
  return trialUntil !== undefined && now < trialUntil && trialUntil <= leaseEnd(now, leaseMs) ? trialUntil : undefined
}

/**
 * The pause after one more failure: twice as long each time, shortened by up to a quarter, by `random` (0 to 1), so that many do not come
 * back at once. A call that began before the last failure was known tells nothing new.
 */
export function afterFailure(
  holdOff: HoldOff | undefined,
  { firstMs, upToMs }: HoldOffRule,
  call: { readonly began: number; readonly now: number; readonly random: number; readonly unreached?: boolean | undefined },
): HoldOff | undefined {
  if (firstMs <= 0) return undefined
  if (holdOff && call.began < holdOff.at && call.now >= holdOff.at) return holdOff
  const failures = (holdOff?.failures ?? 0) + 1
  const length = Math.min(upToMs, firstMs * 2 ** (failures - 1))
  return { failures, at: call.now, until: call.now + Math.ceil(length * (1 - call.random / 4)), ...(call.unreached && { unreached: true }) }
}
