import { alignedWindow } from './aligned-window.js'
import { type ClockChange, moved } from './clock-change.js'
import type { Limit } from './limit.js'

/**
 * So many calls at one moment, milliseconds since 1970-01-01T00:00Z. Of an aligned window that was there before the clock was set back:
 * `folded`, how many of them count in an earlier window too, and `until`, when they count no more, for no true window can hold them then.
 */
type CallsAt = readonly [at: number, calls: number, folded?: number, until?: number]

/** So many calls under way. `id`: when they were to be taken for ended at first; `until`: when they are, where that is another moment by now. */
type CallsFlying = readonly [id: number, calls: number, until?: number]

/**
 * How far a limit is used up, as plain data that can be kept as JSON. The provider sees a call at some moment between its begin and its
 * end, and only these two are known here: so a call counts from its begin on, and for a window's length from its end on. So no window of
 * the provider's, wherever it lies, can hold more calls than are counted here.
 */
export interface LimitState {
  /** Calls under way. */
  readonly flying: readonly CallsFlying[]
  /** Ended calls that still count, by their end; of an aligned window also those of some windows before and after, should the clock change. */
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

/** Aligned windows that are remembered, at the most. */
const mostWindows = 4

/** How many calls may begin now. */
export function roomIn(limit: Limit, state: LimitState, now: number, inBackground: boolean): number {
  const current = upToDate(limit, state, now)
  const kept = inBackground ? limit.calls - limit.inBackground : 0
  if (limit.kind === 'bucket') return Math.floor(levelOf(limit, current, now) + 1e-9) - total(current.flying) - kept
  return limit.calls - total(current.flying) - total(counting(limit, current, now)) - kept
}

/** When there is room again, as far as is known. `sure`: not sooner. Else a call under way blocks it, and may end sooner. */
export interface RoomAgain {
  readonly at: number
  readonly sure: boolean
}

/** For a limit that has no room. */
export function roomAgain(limit: Limit, state: LimitState, now: number, inBackground: boolean): RoomAgain {
  const current = upToDate(limit, state, now)
  const flying = total(current.flying)
  const allowed = (inBackground ? limit.inBackground : limit.calls) - flying
  if (allowed <= 0 || limit.kind === 'at-once') {
    const first = Math.min(...current.flying.map(untilOf)) // infinite where nothing is under way
    return { at: first, sure: flying === 0 }
  }
  if (limit.kind === 'bucket') {
    const missing = 1 + limit.calls - allowed - levelOf(limit, current, now)
    return { at: now + Math.ceil((missing - 1e-9) * limit.perCallMs), sure: true }
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

/** One more call begins; unless its end is reported, it is taken to have ended at `until`. */
export function begun(limit: Limit, state: LimitState, now: number, until: number): LimitState {
  const current = upToDate(limit, state, now)
  const opens = limit.kind === 'fixed' && current.flying.length === 0 && current.ended.length === 0
  return { ...current, flying: withFlying(current.flying, until, until), ...(opens && { from: now, overAt: undefined }) }
}

/** A call that was to be taken for ended at `id` takes longer: it is only at `until`. */
export function extended(limit: Limit, state: LimitState, id: number, until: number): LimitState {
  const { flying, known } = withoutFlying(state.flying, id)
  if (!known && limit.kind !== 'at-once') return state // its time was over before, and it was counted then
  return { ...state, flying: withFlying(flying, id, until) }
}

/** A call that was to be taken for ended at `id` has ended now. */
export function ended(limit: Limit, state: LimitState, now: number, id: number): LimitState {
  const current = upToDate(limit, state, now)
  const { flying, known } = withoutFlying(current.flying, id)
  return known ? landed(limit, { ...current, flying }, now, 1) : current // its time was over before, and it was counted then
}

/** A call that was to be taken for ended at `id` did not reach the provider: it takes no place. */
export function returned(limit: Limit, state: LimitState, now: number, id: number): LimitState {
  const current = upToDate(limit, state, now)
  const { flying, known } = withoutFlying(current.flying, id)
  if (!known) return current // its time was over before, and it was counted then
  const isUnused = flying.length === 0 && current.ended.length === 0
  return { ...current, flying, ...(isUnused && current.from !== undefined && { from: undefined, overAt: undefined }) }
}

/** The clock was set back: a call ended is one that ended now, and one of a later aligned window counts in the present one too. */
export function setBack(limit: Limit, state: LimitState, change: ClockChange): LimitState {
  const { now } = change
  const flying = state.flying.map(([id, calls, until = id]): CallsFlying => [id, calls, moved(until, change)])
  const from = state.from === undefined ? undefined : moved(state.from, change)
  const overAt = state.overAt === undefined ? undefined : moved(state.overAt, change)
  const at = state.at === undefined ? undefined : moved(state.at, change)
  const moment = { ...(from !== undefined && { from }), ...(overAt !== undefined && { overAt }), ...(at !== undefined && { at }) }
  if (limit.kind !== 'aligned') {
    const back = state.ended.reduce((sum: readonly CallsAt[], [one, calls]) => added(sum, [moved(one, change), calls]), [])
    return { ...state, ...moment, flying, ended: back }
  }
  const { start, end } = alignedWindow(limit, now)
  const until = now + (end - start)
  const unfolded = state.ended.reduce((sum, [one, calls, folded = 0]) => (one >= end ? sum + calls - folded : sum), 0)
  const others = state.ended.map(([one, calls, ...rest]): CallsAt => (one >= end ? [one, calls, calls, until] : [one, calls, ...rest]))
  return { ...state, flying, ended: unfolded > 0 ? inWindow(limit, others, [now, unfolded]) : others }
}

/** Without what no longer counts, and with calls under way that were not heard of in time counted as ended. */
function upToDate(limit: Limit, state: LimitState, now: number): LimitState {
  let current = state
  for (const one of state.flying) {
    const until = untilOf(one)
    if (until > now) continue
    current = landed(limit, { ...current, flying: current.flying.filter((other) => other !== one) }, until, one[1])
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

/** Calls of one window together, by the last of them: they all stop counting with it. While a later window counts, they count in it too. */
function inWindow(limit: Limit & { kind: 'aligned' }, ended: readonly CallsAt[], [at, calls]: CallsAt): readonly CallsAt[] {
  const { start, end } = alignedWindow(limit, at)
  const both = ended.map((one): CallsAt => {
    const [later, count, folded = 0, until = 0] = one
    return later >= end && at < until ? [later, count + calls, folded + calls, until] : one
  })
  const place = both.findIndex(([one, , , until]) => one >= start && one < end && until === undefined)
  const there = both[place]
  return there ? both.with(place, [Math.max(at, there[0]), there[1] + calls]) : added(both, [at, calls])
}

/** The ended calls that count now. */
function counting(limit: Limit, { ended }: LimitState, now: number): readonly CallsAt[] {
  if (limit.kind !== 'aligned') return ended
  const { start, end } = alignedWindow(limit, now)
  return ended.filter(([at, , , until]) => at >= start && at < end && (until === undefined || now < until))
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
      return state.ended.length > mostWindows ? { ...state, ended: state.ended.slice(-mostWindows) } : state
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

function total(calls: readonly (readonly [number, number, number?, number?])[]): number {
  let sum = 0
  for (const [, count] of calls) sum += count
  return sum
}

function untilOf([id, , until = id]: CallsFlying): number {
  return until
}

/** With one more call under way. */
function withFlying(flying: readonly CallsFlying[], id: number, until: number): CallsFlying[] {
  const place = flying.findIndex((one) => one[0] === id && untilOf(one) === until)
  const there = flying[place]
  if (there) return flying.with(place, until === id ? [id, there[1] + 1] : [id, there[1] + 1, until])
  return [...flying, until === id ? [id, 1] : [id, 1, until]]
}

/** With one call less under way, if there is one of that id. */
function withoutFlying(flying: readonly CallsFlying[], id: number): { flying: readonly CallsFlying[]; known: boolean } {
  const place = flying.findIndex(([one]) => one === id)
  const there = flying[place]
  if (!there) return { flying, known: false }
  const [, calls, until] = there
  if (calls === 1) return { flying: flying.toSpliced(place, 1), known: true }
  return { flying: flying.with(place, until === undefined ? [id, calls - 1] : [id, calls - 1, until]), known: true }
}

/** In the order of time; those of one moment together. */
function added(calls: readonly CallsAt[], [at, count]: CallsAt): CallsAt[] {
  const place = calls.findLastIndex(([one]) => one <= at)
  const there = calls[place]
  if (there?.[0] === at && there.length === 2) return calls.with(place, [at, there[1] + count])
  return [...calls.slice(0, place + 1), [at, count], ...calls.slice(place + 1)]
}
