import { alignedWindow, type Limit } from './limit.js'

/** So many calls at one moment, milliseconds since 1970-01-01T00:00Z. */
type CallsAt = readonly [at: number, calls: number]

/**
 * How far a limit is used up, as plain data that can be kept as JSON. The provider sees a call at some moment between its begin and its
 * end, and only these two are known here: so a call counts from its begin on, and for a window's length from its end on. So no window of
 * the provider's, wherever it lies, can hold more calls than are counted here.
 */
export interface LimitState {
  /** Calls under way, by the time at which each is taken to have ended if nothing was heard of it. */
  readonly flying: readonly CallsAt[]
  /** Ended calls that still count, by their end. */
  readonly ended: readonly CallsAt[]
  /**
   * Of a fixed window that began when no call was left that could have begun one: when it can have begun at the earliest, and when it
   * is certainly over, once that is known. Else a fixed window is counted like a rolling one, which no fixed one can exceed.
   */
  readonly from?: number | undefined
  readonly overAt?: number | undefined
  /** Of a bucket: tokens at `at`, not counting those of calls under way. */
  readonly level?: number
  readonly at?: number
}

export const unused: LimitState = { flying: [], ended: [] }

/** Ended calls are counted together in steps of this share of a window. */
const steps = 100

/** How many calls may begin now. */
export function roomIn(limit: Limit, state: LimitState, now: number, inBackground: boolean): number {
  const current = upToDate(limit, state, now)
  const kept = inBackground ? limit.calls - limit.inBackground : 0
  if (limit.kind === 'bucket') return Math.floor(levelOf(limit, current, now) + 1e-9) - total(current.flying) - kept
  return limit.calls - total(current.flying) - total(current.ended) - kept
}

/** When there is room again, as far as is known. `sure`: not sooner. Else a call under way stands in the way, and may end sooner. */
export interface RoomAgain {
  readonly at: number
  readonly sure: boolean
}

/** For a limit that has no room. */
export function roomAgain(limit: Limit, state: LimitState, now: number, inBackground: boolean): RoomAgain {
  const current = upToDate(limit, state, now)
  const flying = total(current.flying)
  const allowed = (inBackground ? limit.inBackground : limit.calls) - flying
  if (allowed <= 0 || limit.kind === 'at-once') return { at: current.flying[0]?.[0] ?? Number.POSITIVE_INFINITY, sure: flying === 0 }
  if (limit.kind === 'bucket') {
    const missing = 1 + limit.calls - allowed - levelOf(limit, current, now)
    return { at: now + Math.ceil(missing * limit.perCallMs), sure: true }
  }
  if (limit.kind === 'aligned') return { at: alignedWindow(limit, now).end, sure: true }
  let counted = total(current.ended)
  const freeing = current.ended.find(([, calls]) => {
    counted -= calls
    return counted < allowed
  })
  const at = freeing ? freeing[0] + limit.perMs : now
  return { at: Math.min(at, current.overAt ?? at), sure: true }
}

/** One more call begins; unless its end is told, it is taken to have ended at `until`. */
export function begun(limit: Limit, state: LimitState, now: number, until: number): LimitState {
  const current = upToDate(limit, state, now)
  const opens = limit.kind === 'fixed' && current.flying.length === 0 && current.ended.length === 0
  return { ...current, flying: added(current.flying, [until, 1]), ...(opens && { from: now, overAt: undefined }) }
}

/** A call that was to be taken for ended at `until` has ended now. */
export function ended(limit: Limit, state: LimitState, now: number, until: number): LimitState {
  const current = upToDate(limit, state, now)
  if (!current.flying.some(([at]) => at === until)) return current // its time was over before, and it was counted then
  const flying = current.flying.flatMap(([at, calls]): CallsAt[] => (at !== until ? [[at, calls]] : calls > 1 ? [[at, calls - 1]] : []))
  return landed(limit, { ...current, flying }, now, 1)
}

/** Without what no longer counts, and with calls under way that were not heard of in time counted as ended. */
function upToDate(limit: Limit, state: LimitState, now: number): LimitState {
  let current = state
  for (const [until, calls] of state.flying) {
    if (until > now) continue
    current = landed(limit, { ...current, flying: current.flying.filter(([at]) => at !== until) }, until, calls)
  }
  return withoutOld(limit, current, now)
}

function landed(limit: Limit, state: LimitState, at: number, calls: number): LimitState {
  if (limit.kind === 'at-once') return state
  if (limit.kind === 'bucket') return { ...state, level: levelOf(limit, state, at) - calls, at: Math.max(at, state.at ?? at) }
  if (limit.kind === 'aligned') return { ...state, ended: inWindow(limit, state.ended, [at, calls]) }
  const step = Math.max(1, Math.floor(limit.perMs / steps))
  const overAt = state.from === undefined ? undefined : (state.overAt ?? at + limit.perMs)
  return { ...state, ended: added(state.ended, [Math.ceil(at / step) * step, calls]), ...(overAt !== undefined && { overAt }) }
}

/** Calls of one window together, by the last of them: they all stop counting with it. */
function inWindow(limit: Limit & { kind: 'aligned' }, ended: readonly CallsAt[], [at, calls]: CallsAt): readonly CallsAt[] {
  const last = ended.at(-1)
  const isOne = last !== undefined && alignedWindow(limit, at).start === alignedWindow(limit, last[0]).start
  return isOne ? [...ended.slice(0, -1), [Math.max(at, last[0]), last[1] + calls]] : added(ended, [at, calls])
}

function withoutOld(limit: Limit, state: LimitState, now: number): LimitState {
  switch (limit.kind) {
    case 'rolling':
      return endedSince(state, now - limit.perMs + 1)
    case 'fixed': {
      const { from, overAt } = state
      const inNext = from === undefined || overAt === undefined || now < overAt ? state : onlyAfter(state, from + limit.perMs)
      return endedSince(inNext, now - limit.perMs + 1)
    }
    case 'aligned':
      return endedSince(state, alignedWindow(limit, now).start)
    default:
      return state
  }
}

/** Once a window is certainly over, what ended before it can have been over counts no more. */
function onlyAfter(state: LimitState, since: number): LimitState {
  return { ...endedSince(state, since), from: undefined, overAt: undefined }
}

function endedSince(state: LimitState, since: number): LimitState {
  const first = state.ended[0]
  return first === undefined || first[0] >= since ? state : { ...state, ended: state.ended.filter(([at]) => at >= since) }
}

function levelOf(limit: Limit & { kind: 'bucket' }, { level = limit.calls, at }: LimitState, now: number): number {
  return Math.min(limit.calls, level + Math.max(0, now - (at ?? now)) / limit.perCallMs)
}

function total(calls: readonly CallsAt[]): number {
  let sum = 0
  for (const [, count] of calls) sum += count
  return sum
}

/** In the order of time; those of one moment together. */
function added(calls: readonly CallsAt[], [at, count]: CallsAt): CallsAt[] {
  const place = calls.findLastIndex(([one]) => one <= at)
  const there = calls[place]
  if (there?.[0] === at) return calls.with(place, [at, there[1] + count])
  return [...calls.slice(0, place + 1), [at, count], ...calls.slice(place + 1)]
}
