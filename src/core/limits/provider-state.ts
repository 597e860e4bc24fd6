import type { Ending } from '../money/billed-calls.js'
import type { Units } from '../money/units.js'
import type { Budget, Spending } from './budget.js'
import type { BudgetState } from './budget-state.js'
import { afterFailure, type HoldOff, type HoldOffRule, heldOffUntil } from './hold-off.js'
import { alignedWindow, type Limit } from './limit.js'
import { begun, ended, type LimitState, type RoomAgain, roomAgain, roomIn, unused } from './limit-state.js'
import { ownPrices, pastBudget, withSpending, withSpent } from './provider-spending.js'
import type { Reported, ReportedLimit } from './reported-limits.js'

/** A limit, and how far it is used up. */
export interface LimitUse {
  readonly limit: Limit
  readonly state: LimitState
}

/** A budget, and how far it is spent. */
export interface BudgetUse extends Pick<Budget, 'name' | 'amount' | 'currency'> {
  readonly state: BudgetState
  /** A decimal: what the calls cost that have ended. */
  readonly spent: string
}

/** What is known of a provider by all who share a store: plain data, kept as JSON. Moments are milliseconds since 1970-01-01T00:00Z. */
export interface ProviderState {
  /** By the limit's id. */
  readonly limits: Readonly<Record<string, LimitUse>>
  /** By the name the provider gives. */
  readonly reported: Readonly<Record<string, ReportedLimit>>
  /** Nobody asks before, for the provider said so. */
  readonly notBefore?: number | undefined
  /** Of quotas, by the limit's id: calls that others made with the same key in the period up to `until`, as far as they were told apart. */
  readonly others?: Readonly<Record<string, { readonly until: number; readonly calls: number }>>
  /** By the budget's id. */
  readonly budgets?: Readonly<Record<string, BudgetUse>>
  /** By endpoint, and of the provider as a whole. */
  readonly holdOffs: Readonly<Record<string, HoldOff>>
  readonly providerHoldOff?: HoldOff | undefined
  readonly lastSuccessAt?: number
  readonly lastError?: { readonly at: number; readonly endpoint: string; readonly what: string }
  /** How many calls wait in each process that said so lately, and when it did. */
  readonly queues: Readonly<Record<string, { readonly waiting: number; readonly at: number }>>
  /** Calls begun and ended ever, for what a provider tells holds but for calls that were under way with the one it was told to. */
  readonly begunEver: number
  readonly endedEver: number
}

export const nothingKnown: ProviderState = { limits: {}, reported: {}, holdOffs: {}, queues: {}, begunEver: 0, endedEver: 0 }

/** A call to a provider, as its limits see it. */
export interface LimitedCall {
  readonly endpoint: string
  /** Those of the provider and of the endpoint. */
  readonly limits: readonly Limit[]
  /** Where its provider has budgets. */
  readonly spending?: Spending | undefined
  readonly holdOff: HoldOffRule
  readonly inBackground: boolean
  /** How long it can take, milliseconds: nothing heard of it by then, it counts as ended. */
  readonly longestMs: number
}

/** A call that was let through. */
export interface Passage {
  readonly began: number
  readonly until: number
  /** Calls that had ended when it began. */
  readonly endedBefore: number
  /** The most that it can cost besides its place among the plan's calls: one decimal a budget. */
  readonly own?: readonly string[]
}

export type Admission =
  | { readonly admitted: true; readonly passage: Passage; readonly state: ProviderState }
  /** `state`: where the refusal itself is to be remembered. */
  | ({ readonly admitted: false; readonly state?: ProviderState } & Refusal)

/** Why a call may not go out, and when to try again. */
export interface Refusal extends RoomAgain {
  readonly why: 'held-off' | 'limit-reached' | 'budget-spent'
  /** What stands in the way, for people. */
  readonly what: string
  /** Whether it stands in the way of the provider's other endpoints too. */
  readonly providerWide: boolean
}

/** Lets a call through or not; all that stands in its way is looked at before anything is counted. */
export function admit(state: ProviderState, call: LimitedCall, now: number): Admission {
  const refusal = heldOff(state, call, now) ?? pastReported(state, call, now) ?? pastDeclared(state, call, now)
  if (refusal) return { admitted: false, ...refusal }
  const until = now + call.longestMs
  const overspent = call.spending && pastBudget(state, call.spending, { now, until, inBackground: call.inBackground })
  if (overspent) return { admitted: false, ...overspent }
  const own = call.spending && ownPrices(state, call.spending, now)
  const passage = { began: now, until, endedBefore: state.endedEver, ...(own && { own }) }
  return { admitted: true, passage, state: withBegun(state, call, passage) }
}

function heldOff({ providerHoldOff, holdOffs }: ProviderState, { endpoint, holdOff }: LimitedCall, now: number): Refusal | undefined {
  if (holdOff.firstMs <= 0) return undefined
  const facts = { why: 'held-off', what: 'calls to it failed a moment ago', sure: true } as const
  const providerWide = heldOffUntil(providerHoldOff, holdOff, now)
  if (providerWide !== undefined) return { ...facts, at: providerWide, providerWide: true }
  const own = heldOffUntil(holdOffs[endpoint], holdOff, now)
  return own === undefined ? undefined : { ...facts, at: own, providerWide: false }
}

/** The share of what a provider says is left that background calls leave to others. */
const reportedReserved = 0.2

function pastReported({ notBefore, reported }: ProviderState, { inBackground }: LimitedCall, now: number): Refusal | undefined {
  const facts = { why: 'limit-reached', sure: true, providerWide: true } as const
  if (notBefore !== undefined && now < notBefore) return { ...facts, at: notBefore, what: 'the provider said to wait' }
  const spent = Object.values(reported).find(
    ({ left, until, calls = 0 }) => now < until && left - (inBackground ? calls * reportedReserved : 0) < 1,
  )
  return spent && { ...facts, at: spent.until, what: 'the provider said that no more calls are left' }
}

function pastDeclared(state: ProviderState, { limits, inBackground }: LimitedCall, now: number): Refusal | undefined {
  for (const limit of limits) {
    const used = state.limits[limit.id]?.state ?? unused
    if (limit.paced && inBackground) {
      const left = Math.min(roomIn(limit, used, now, false), reportedLeft(state, limit, now))
      if (left <= notYetDue(limit, now))
        return { why: 'limit-reached', what: limit.name, providerWide: true, at: dueAt(limit, left, now), sure: true }
      continue
    }
    if (roomIn(limit, used, now, inBackground) >= 1) continue
    return { why: 'limit-reached', what: limit.name, providerWide: limit.providerWide, ...roomAgain(limit, used, now, inBackground) }
  }
  return undefined
}

/** What a provider says is left of a quota. */
function reportedLeft({ reported }: ProviderState, { id }: Limit, now: number): number {
  const said = reported[id]
  return said && now < said.until ? said.left : Number.POSITIVE_INFINITY
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

/** Counts a call that has begun, also where its admission was given without this state. */
export function withBegun(before: ProviderState, { endpoint, limits, spending }: LimitedCall, passage: Passage): ProviderState {
  const { began, until } = passage
  const state = spending ? withSpending(before, spending, passage) : before
  const used = limits.map((limit) => [limit.id, { limit, state: begun(limit, state.limits[limit.id]?.state ?? unused, began, until) }])
  const reported = Object.entries(state.reported)
    .filter(([, one]) => began < one.until)
    .map(([name, one]) => [name, { ...one, left: one.left - 1 }])
  const trying = (holdOff: HoldOff | undefined) => holdOff && { ...holdOff, trialUntil: until }
  const own = trying(state.holdOffs[endpoint])
  return {
    ...state,
    limits: { ...state.limits, ...Object.fromEntries(used) },
    reported: Object.fromEntries(reported),
    holdOffs: own ? { ...state.holdOffs, [endpoint]: own } : state.holdOffs,
    providerHoldOff: trying(state.providerHoldOff),
    begunEver: state.begunEver + 1,
  }
}

/** How a call ended: `left` where its callers had gone before. */
export interface CallEnd {
  readonly how: 'answered' | 'refused' | 'failed' | 'left'
  readonly at: number
  /** Whether a refusal said when to come back. */
  readonly saidWhen?: boolean
  /** What went wrong, for people; no secrets. */
  readonly what?: string | undefined
  /** What the provider's bill says of it, where that is known; else it is billed like an answer. */
  readonly ending?: Ending | undefined
  readonly units?: Units | undefined
  /** From 0 to 1: spreads the ends of pauses. */
  readonly random: number
}

/** Counts the end of a call that was let through. */
export function withEnded(before: ProviderState, call: LimitedCall, passage: Passage, end: CallEnd): ProviderState {
  const { endpoint, limits, spending } = call
  const state = spending ? withSpent(before, spending, passage, end) : before
  const used = limits.map((limit) => [
    limit.id,
    { limit, state: ended(limit, state.limits[limit.id]?.state ?? unused, end.at, passage.until) },
  ])
  const counted: ProviderState = {
    ...state,
    limits: { ...state.limits, ...Object.fromEntries(used) },
    endedEver: state.endedEver + 1,
  }
  return withOutcome(counted, endpoint, call.holdOff, passage, end)
}

/** Learns what a provider told a call of its limits, at `at`. */
export function withReported(state: ProviderState, { endedBefore }: Passage, reported: Reported, at: number): ProviderState {
  const maybeUncounted = state.begunEver - endedBefore - 1 // calls that the provider may have seen after it said so
  const news = reported.limits.map((one) => {
    const before = state.reported[one.name]
    const known = before && at < before.until ? before.left : Number.NEGATIVE_INFINITY
    return [one.name, { ...one, left: Math.min(one.left, Math.max(known, one.left - maybeUncounted)) }]
  })
  const learned = { ...state.reported, ...Object.fromEntries(news) } as ProviderState['reported']
  return {
    ...state,
    reported: learned,
    ...(maybeUncounted === 0 && { others: othersOf(state, learned, at) }),
    notBefore: reported.notBefore === undefined ? state.notBefore : Math.max(state.notBefore ?? 0, reported.notBefore),
  }
}

/** Calls that others made with the same key: what a provider says is left of a quota less than what was counted here. */
function othersOf(state: ProviderState, reported: ProviderState['reported'], at: number): NonNullable<ProviderState['others']> {
  const found = Object.entries(state.limits).flatMap(([id, { limit, state: used }]) => {
    const said = reported[id]
    if (!limit.paced || !said || at >= said.until) return []
    const known = state.others?.[id]
    const before = known && at < known.until ? known.calls : 0
    return [[id, { until: said.until, calls: Math.max(before, roomIn(limit, used, at, false) - said.left) }] as const]
  })
  return { ...state.others, ...Object.fromEntries(found) }
}

/** How many more calls of others are known after a change than before. */
export function newOthers(before: ProviderState, after: ProviderState, at: number): number {
  return Object.entries(after.others ?? {}).reduce((sum, [id, { calls }]) => {
    const known = before.others?.[id]
    return sum + Math.max(0, calls - (known && at < known.until ? known.calls : 0))
  }, 0)
}

/** How long the queue of a process that is not heard of counts, milliseconds. */
const queueCountsMs = 60_000

/** Notes how many calls wait in a process. */
export function withQueue(state: ProviderState, process: string, waiting: number, at: number): ProviderState {
  const others = Object.entries(state.queues).filter(([name, queue]) => name !== process && at - queue.at < queueCountsMs)
  return { ...state, queues: Object.fromEntries([...others, ...(waiting > 0 ? [[process, { waiting, at }] as const] : [])]) }
}

/** How many calls wait in all processes. */
export function waitingIn({ queues }: ProviderState, now: number): number {
  return Object.values(queues).reduce((sum, { waiting, at }) => sum + (now - at < queueCountsMs ? waiting : 0), 0)
}

function withOutcome(state: ProviderState, endpoint: string, rule: HoldOffRule, passage: Passage, end: CallEnd): ProviderState {
  const { [endpoint]: own, ...others } = state.holdOffs
  const withOwn = (holdOff: HoldOff | undefined) => (holdOff ? { ...others, [endpoint]: holdOff } : others)
  const untried = (holdOff: HoldOff | undefined) => holdOff && { ...holdOff, trialUntil: undefined }
  switch (end.how) {
    case 'answered':
      return { ...state, holdOffs: others, providerHoldOff: undefined, lastSuccessAt: end.at }
    case 'left':
      return { ...state, holdOffs: withOwn(untried(own)), providerHoldOff: untried(state.providerHoldOff) }
    case 'refused':
      if (end.saidWhen) {
        const lastError = { at: end.at, endpoint, what: end.what ?? 'refused' }
        return { ...state, holdOffs: withOwn(untried(own)), providerHoldOff: untried(state.providerHoldOff), lastError }
      }
      return withOutcome(state, endpoint, rule, passage, { ...end, how: 'failed' })
    case 'failed': {
      const call = { began: passage.began, now: end.at, random: end.random }
      const holdOff = untried(afterFailure(own, rule, call))
      const failing = Object.values(others).some(({ at }) => at >= (state.lastSuccessAt ?? 0))
      const together = state.providerHoldOff !== undefined || (holdOff !== undefined && failing)
      return {
        ...state,
        holdOffs: withOwn(holdOff),
        providerHoldOff: together ? untried(afterFailure(state.providerHoldOff, rule, call)) : undefined,
        lastError: { at: end.at, endpoint, what: end.what ?? 'failed' },
      }
    }
  }
}
