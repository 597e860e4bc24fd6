import { alignedWindow } from './aligned-window.js'
import type { Bound, BoundCall, Refusal } from './bound.js'
import type { Limit } from './limit.js'
import { begun, ended, extended, type LimitState, returned, roomAgain, roomIn, setBack, unused } from './limit-state.js'
import { type LimitUse, ofName, type ProviderState } from './provider-state.js'
import { reportedLeft } from './reported-bound.js'

/** The declared limits and quotas of a provider and its endpoints. */
export const limitBound: Bound = {
  refuses(state, { limits, inBackground }, now): Refusal | undefined {
    for (const limit of limits) {
      const used = ofName(state.limits, limit.id)?.state ?? unused
      const facts = { why: 'limit-reached', what: limit.name, providerWide: limit.providerWide } as const
      if (inBackground && limit.inBackground < 1) {
        const what = `${limit.name}, of which "reserved" leaves nothing to background calls`
        return { ...facts, what, providerWide: false, at: Number.POSITIVE_INFINITY, sure: true }
      }
      if (limit.paced && inBackground) {
        const left = Math.min(roomIn(limit, used, now, false), reportedLeft(state, limit, now))
        if (left <= notYetDue(limit, now)) return { ...facts, providerWide: true, at: dueAt(limit, left, now), sure: true }
        continue
      }
      if (roomIn(limit, used, now, inBackground) < 1) return { ...facts, ...roomAgain(limit, used, now, inBackground) }
    }
    return undefined
  },

  begun: (state, call, { began, until }) => withUses(state, call, (limit, used) => begun(limit, used, began, until)),

  extended: (state, call, permit, until) => withUses(state, call, (limit, used) => extended(limit, used, permit.until, until)),

  ended: (state, call, { until }, { at, isUnreached }) =>
    withUses(state, call, (limit, used) => (isUnreached ? returned(limit, used, at, until) : ended(limit, used, at, until))),

  setBack(state, change) {
    const all = Object.entries(state.limits).map(([id, { limit, state: used }]) => [id, { limit, state: setBack(limit, used, change) }])
    return { ...state, limits: Object.fromEntries(all) }
  },
}

function withUses(state: ProviderState, { limits }: BoundCall, use: (limit: Limit, used: LimitState) => LimitState): ProviderState {
  if (limits.length === 0) return state
  const used = limits.map((limit): [string, LimitUse] => [
    limit.id,
    { limit, state: use(limit, ofName(state.limits, limit.id)?.state ?? unused) },
  ])
  return { ...state, limits: { ...state.limits, ...Object.fromEntries(used) } }
}

/** How many calls of a paced limit are for the rest of its window. */
export function notYetDue(limit: Limit, now: number): number {
  if (limit.kind !== 'aligned') return 0
  const { start, end } = alignedWindow(limit, now)
  return Math.ceil((limit.calls * (end - now)) / (end - start))
}

/** When a call is due of a paced limit of which so many calls are left. */
function dueAt(limit: Limit, left: number, now: number): number {
  if (limit.kind !== 'aligned') return now
  const { start, end } = alignedWindow(limit, now)
  return Math.max(now + 1, Math.ceil(end - (Math.max(0, left - 1) * (end - start)) / limit.calls))
}
