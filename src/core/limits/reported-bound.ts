import type { Bound, BoundCall, PermitFacts, Refusal } from './bound.js'
import { moved } from './clock-change.js'
import type { Limit } from './limit.js'
import { roomIn } from './limit-state.js'
import { mapValues, ofName, type ProviderState } from './provider-state.js'
import type { Reported, ReportedLimit } from './reported-limits.js'

/** The share of what a provider says is left that background calls leave to others. */
const reservedShare = 0.2

/** How long a pause that a provider asks for is believed, where nothing else is configured, milliseconds. */
const believedPauseMs = 3_600_000

/** Named limits of a provider remembered, at the most. */
const mostLimits = 32

/** What the provider itself reports of its limits, and the pauses that it asks for. */
export const reportedBound: Bound = {
  refuses({ pausedUntil, reported }, { inBackground }, now): Refusal | undefined {
    const facts = { why: 'limit-reached', sure: true, providerWide: true } as const
    if (pausedUntil !== undefined && now < pausedUntil) return { ...facts, at: pausedUntil, what: 'the provider said to wait' }
    const spent = Object.values(reported).find(
      ({ left, until, calls = 0 }) => now < until && left - (inBackground ? calls * reservedShare : 0) < 1,
    )
    return spent && { ...facts, at: spent.until, what: 'the provider said that no more calls are left' }
  },

  begun(state, _call, { began }) {
    if (!state.reports) return { ...state, begunEver: state.begunEver + 1 }
    const reported = Object.entries(state.reported)
      .filter(([, one]) => began < one.until)
      .map(([name, one]) => [name, { ...one, left: one.left - 1 }])
    return { ...state, reported: Object.fromEntries(reported), begunEver: state.begunEver + 1 }
  },

  ended(state, _call, { began }, { isUnreached }) {
    const after = { ...state, endedEver: state.endedEver + 1 }
    if (!isUnreached || !state.reports) return after
    return { ...after, reported: mapValues(state.reported, (one) => (began < one.until ? { ...one, left: one.left + 1 } : one)) }
  },

  setBack(state, change) {
    const { pausedUntil, others } = state
    return {
      ...state,
      reported: mapValues(state.reported, (one) => ({ ...one, until: moved(one.until, change) })),
      ...(pausedUntil !== undefined && { pausedUntil: moved(pausedUntil, change) }),
      ...(others && { others: mapValues(others, (one) => ({ ...one, until: moved(one.until, change) })) }),
    }
  },
}

/** Learns what a provider reported to a call of its limits, at `at`. */
export function withReported(
  state: ProviderState,
  { believeUpToMs }: Pick<BoundCall, 'believeUpToMs'>,
  { endedBefore }: Pick<PermitFacts, 'endedBefore'>,
  { limits, notBefore }: Reported,
  at: number,
): ProviderState {
  const maybeUncounted = state.begunEver - endedBefore - 1 // calls that the provider may have seen after it said so
  const believed = (until: number) => Math.min(until, at + (believeUpToMs ?? Number.POSITIVE_INFINITY))
  const news = limits.map((one): [string, ReportedLimit] => {
    const before = ofName(state.reported, one.name)
    const known = before && at < before.until ? before.left : Number.NEGATIVE_INFINITY
    return [one.name, { ...one, until: believed(one.until), left: Math.min(one.left, Math.max(known, one.left - maybeUncounted)) }]
  })
  const old = Object.entries(state.reported).filter(([name, { until }]) => at < until && !news.some(([one]) => one === name))
  const known = Object.fromEntries([...news, ...old].slice(0, mostLimits))
  const pause = notBefore === undefined ? undefined : Math.min(notBefore, at + (believeUpToMs ?? believedPauseMs))
  return {
    ...state,
    reported: known,
    ...(limits.length > 0 && { reports: true }),
    ...(maybeUncounted === 0 && { others: othersOf(state, known, at) }),
    pausedUntil: pause === undefined ? state.pausedUntil : Math.max(state.pausedUntil ?? 0, pause),
  }
}

/** What a provider says is left of a quota. */
export function reportedLeft({ reported }: ProviderState, { id }: Limit, now: number): number {
  const said = ofName(reported, id)
  return said && now < said.until ? said.left : Number.POSITIVE_INFINITY
}

/** Calls that others made with the same key: what a provider says is left of a quota less than what was counted here. */
function othersOf(state: ProviderState, reported: ProviderState['reported'], at: number): NonNullable<ProviderState['others']> {
  const found = Object.entries(state.limits).flatMap(([id, { limit, state: used }]) => {
    const said = ofName(reported, id)
    if (!limit.paced || !said || at >= said.until) return []
    const known = ofName(state.others, id)
    const before = known && at < known.until ? known.calls : 0
    return [[id, { until: said.until, calls: Math.max(before, roomIn(limit, used, at, false) - said.left) }] as const]
  })
  return { ...state.others, ...Object.fromEntries(found) }
}

/** How many more calls of others are known after a change than before. */
export function newOthers(before: ProviderState, after: ProviderState, at: number): number {
  return Object.entries(after.others ?? {}).reduce((sum, [id, { calls }]) => {
    const known = ofName(before.others, id)
    return sum + Math.max(0, calls - (known && at < known.until ? known.calls : 0))
  }, 0)
}
