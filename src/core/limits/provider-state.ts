import type { Budget } from './budget.js'
import type { BudgetState } from './budget-spending.js'
import type { HoldOff } from './hold-off.js'
import type { Limit } from './limit.js'
import type { LimitState } from './limit-state.js'
import type { ReportedLimit } from './reported-limits.js'

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
  /** A decimal that no call may pass; null where calls may. */
  readonly stopsAt?: string | null
}

/** Values by name; names come from configurations and providers, so look them up with `ofName` only. */
export type Named<T> = Readonly<Record<string, T>>

/** What is known of a provider by all who share a store: plain data, kept as JSON. Moments are milliseconds since 1970-01-01T00:00Z. */
export interface ProviderState {
  /** How often it was changed: of two states of one provider, the one changed more often knows all that the other does. */
  readonly changes?: number
  /** Of each process heard of lately, the number of its latest event in this, by its own count, and when that came: the latest last. */
  readonly seen?: readonly (readonly [process: string, number: number, at: number])[]
  /** The latest moment at which anything was recorded. */
  readonly latest: number
  /** By the limit's id. */
  readonly limits: Named<LimitUse>
  /** What the provider reports of its limits, by the name it gives them. */
  readonly reported: Named<ReportedLimit>
  /** Whether the provider ever reported a limit: then every call is counted, for what it reports next to be understood. */
  readonly reports?: true
  /** Nobody asks before, for the provider said so. */
  readonly pausedUntil?: number | undefined
  /** Of quotas, by the limit's id: calls that others made with the same key in the period up to `until`, as far as they are known. */
  readonly others?: Named<{ readonly until: number; readonly calls: number }>
  /** By the budget's id. */
  readonly budgets?: Named<BudgetUse>
  /** By hold-off scope, and of the provider as a whole. */
  readonly holdOffs: Named<HoldOff>
  readonly providerHoldOff?: HoldOff | undefined
  readonly lastSuccessAt?: number
  readonly lastError?: { readonly at: number; readonly endpoint: string; readonly what: string }
  /** How many calls wait in each process that said so lately, and when it did. */
  readonly queues: Named<{ readonly waiting: number; readonly at: number }>
  /** Calls begun and ended ever, for what a provider reports holds but for calls that were under way with the one it was reported to. */
  readonly begunEver: number
  readonly endedEver: number
}

export const nothingKnown: ProviderState = { latest: 0, limits: {}, reported: {}, holdOffs: {}, queues: {}, begunEver: 0, endedEver: 0 }

/** What a store holds that is no state counts as nothing known. */
export function parseProviderState(text: string): ProviderState {
  try {
    const state = JSON.parse(text) as Record<string, unknown>
    const isState = ['limits', 'holdOffs', 'reported', 'queues'].every((part) => typeof state[part] === 'object' && state[part] !== null)
    return isState && typeof state.latest === 'number' ? (state as unknown as ProviderState) : nothingKnown
  } catch {
    return nothingKnown
  }
}

/** The value of a name, whatever the name: `constructor` is one like any other. */
export function ofName<T>(values: Named<T> | undefined, name: string): T | undefined {
  return values !== undefined && Object.hasOwn(values, name) ? values[name] : undefined
}

/** How long a process that is not heard of is known by its events, milliseconds, and how many processes are at the most. */
const seenForMs = 600_000
const mostSeen = 200

/** The number of the latest event of a process that is in a state; 0 where none is. */
export function numberSeen({ seen = [] }: ProviderState, process: string): number {
  return seen.find(([name]) => name === process)?.[1] ?? 0
}

/** With the number of the latest event of a process. */
export function withNumberSeen(state: ProviderState, process: string, number: number, at: number): ProviderState {
  const others = (state.seen ?? []).filter(([name, , seenAt]) => name !== process && at - seenAt < seenForMs)
  return { ...state, seen: [...others.slice(-mostSeen), [process, number, at]] }
}

/** With another value under a name; without it where that is undefined. */
export function withValue<T>(values: Named<T>, name: string, value: T | undefined): Named<T> {
  if (value !== undefined) return { ...values, [name]: value }
  if (!Object.hasOwn(values, name)) return values
  return Object.fromEntries(Object.entries(values).filter(([one]) => one !== name))
}

export function mapValues<T>(values: Named<T>, change: (value: T) => T): Named<T> {
  return Object.fromEntries(Object.entries(values).map(([name, value]) => [name, change(value)]))
}
