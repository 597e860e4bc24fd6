import { admit, isClockSetBack, withClock } from '../../core/limits/admission.js'
import type { BoundCall, CallEnd, PermitFacts, Refusal } from '../../core/limits/bound.js'
import type { BudgetLevel } from '../../core/limits/budget.js'
import { budgetLevelOf, newlyReached } from '../../core/limits/budget-bound.js'
import { type HoldOff, leaseEnd } from '../../core/limits/hold-off.js'
import { holdOffBound, wasUnreached } from '../../core/limits/hold-off-bound.js'
import { type ProviderEvent, withEvent } from '../../core/limits/provider-events.js'
import {
  nothingKnown,
  numberSeen,
  ofName,
  type ProviderState,
  parseProviderState,
  withNumberSeen,
} from '../../core/limits/provider-state.js'
import { newOthers } from '../../core/limits/reported-bound.js'
import type { Reported } from '../../core/limits/reported-limits.js'
import type { Clock } from '../../core/ports/clock.js'
import type { Maybe } from '../../core/ports/maybe.js'
import type { GateParts } from './gate-parts.js'
import { keepForMs, recordName } from './provider-records.js'
import { SharedState } from './shared-state.js'

export type Admitted = { readonly permit: PermitFacts } | { readonly refusal: Refusal }

/** Where nothing bounds its calls, that a provider answers is told to others so often at the most, milliseconds. */
const tellSuccessEveryMs = 10_000

/**
 * What is known of a provider, shared by all processes on one store, by the store's time. Moments that it is given or gives are by the clock of this process, but
 * for those of permits.
 */
export class SharedProviderState {
  readonly #provider: string
  readonly #parts: GateParts
  readonly #state: SharedState<ProviderState, ProviderEvent>
  /** Permits of calls under way of which nothing is recorded. */
  readonly #uncounted = new Map<PermitFacts, BoundCall>()

  constructor(provider: string, parts: GateParts) {
    const { store, time, process } = parts
    const clock: Clock = { now: () => time.now(), ticks: () => parts.clock.ticks(), later: (...args) => parts.clock.later(...args) }
    this.#provider = provider
    this.#parts = parts
    this.#state = new SharedState({
      ...{ records: store.records, clock, name: recordName(provider), keepForMs },
      ...{
        initial: nothingKnown,
        parse: parseProviderState,
        reduce: (state, event) => withEvent(state, event, time.now()),
        changesOf: ({ changes = 0 }) => changes,
      },
      numberOf: (state) => numberSeen(state, process),
      numbered: (state, number) => withNumberSeen(state, process, number, clock.now()),
      changed: (before, after, event) => this.#announce(before, after, event),
    })
  }

  /**
   * Asks for a permit: counts the call if it is let through. Where nothing bounds it, nothing is written of it, unless it comes to something
   * that others have to know. `ahead`: what was looked up for it.
   */
  admit(call: BoundCall, ahead?: Maybe<ProviderState>): Maybe<Admitted> {
    if (!isBoundless(call)) return this.#decide(call)
    const known = ahead ?? this.#state.look()
    return known instanceof Promise ? known.then((one) => this.#admitBy(one, call)) : this.#admitBy(known, call)
  }

  get #now(): number {
    return this.#parts.time.now()
  }

  /** No later than now, by any clock. */
  get #surelyNow(): number {
    const { time } = this.#parts
    return time.now() - time.unsureMs
  }

  /** The end of a call that ended a moment ago, no earlier than it was by any clock. */
  #endByStore(end: CallEnd): CallEnd {
    const { time } = this.#parts
    return { ...end, at: time.now() + time.unsureMs }
  }

  /** A refusal with when to try again by the clock of this process. */
  #told(refusal: Refusal): Refusal {
    return { ...refusal, at: this.#parts.time.ofOwn(refusal.at) }
  }

  /** What has to be known before a call that nothing bounds, of a store that takes its time. */
  lookAhead(call: BoundCall): Promise<ProviderState> | undefined {
    if (!isBoundless(call)) return undefined
    const known = this.#state.look()
    return known instanceof Promise ? known : undefined
  }

  #admitBy(known: ProviderState, call: BoundCall): Maybe<Admitted> {
    const at = this.#now
    if (!boundsNothing(known, at)) return this.#decide(call)
    const permit = { began: at, until: leaseEnd(at, call.leaseMs), endedBefore: known.endedEver }
    this.#uncounted.set(permit, call)
    return { permit }
  }

  #decide(call: BoundCall): Promise<Admitted> {
    return this.#state.decide<Admitted>((recorded) => {
      const [now, at] = [this.#now, this.#surelyNow]
      const admission = admit(withClock(recorded, now), call, at)
      if (admission.admitted) return { result: admission, event: { is: 'begun', at, call, permit: admission.permit } }
      const { refusal, by } = admission
      const isRemembered = (by.refused !== undefined && by.refused(recorded, call, at) !== recorded) || isClockSetBack(recorded, now)
      return { result: { refusal: this.#told(refusal) }, event: isRemembered ? { is: 'refused', at, call, by } : undefined }
    })
  }

  /** What would block a call now, by what the store knows; nothing is counted. */
  async look(call: BoundCall): Promise<Refusal | undefined> {
    const admission = admit(withClock(await this.#state.look(), this.#now), call, this.#surelyNow)
    return admission.admitted ? undefined : this.#told(admission.refusal)
  }

  /** The head of an answer has arrived: what it reports of limits, and what the call came to where that is settled. */
  answering(call: BoundCall, permit: PermitFacts, reported: Reported | undefined, result: CallEnd | undefined): void {
    if (reported) for (const one of [...this.#uncounted.keys()]) this.#count(one) // the provider may have counted them
    this.#count(permit)
    const { time } = this.#parts
    const byStore = (until: number) => time.ofStore(until)
    const its = reported && {
      limits: reported.limits.map((limit) => ({ ...limit, until: byStore(limit.until) })),
      notBefore: reported.notBefore === undefined ? undefined : byStore(reported.notBefore),
    }
    this.#state.note({ is: 'answering', at: this.#now, call, permit, reported: its, result: result && this.#endByStore(result) })
  }

  /** A call takes longer than what it was counted with. */
  extended(call: BoundCall, permit: PermitFacts): void {
    if (this.#uncounted.has(permit)) return
    const until = leaseEnd(this.#now, call.leaseMs)
    this.#state.note({ is: 'extended', at: this.#now, call, permit, until })
  }

  /** Counts the end of a call that was let through. */
  ended(call: BoundCall, permit: PermitFacts, given: CallEnd): void {
    const end = this.#endByStore(given)
    if (this.#uncounted.has(permit) && !this.#isNews(end)) {
      this.#uncounted.delete(permit)
      return
    }
    this.#count(permit)
    this.#state.note({ is: 'ended', at: end.at, call, permit, end })
  }

  /** Whether the end of a call that bounds nothing has to be known to others. */
  #isNews({ how, at }: CallEnd): boolean {
    const { known } = this.#state
    if (how === 'refused' || how === 'failed' || !boundsNothing(known, at)) return true
    return how === 'answered' && Math.abs(at - (known.lastSuccessAt ?? 0)) >= tellSuccessEveryMs
  }

  /** Counts the begin of a call that was not counted then. */
  #count(permit: PermitFacts): void {
    const call = this.#uncounted.get(permit)
    if (call && this.#uncounted.delete(permit)) this.#state.note({ is: 'begun', at: this.#now, call, permit })
  }

  /** Notes how many calls wait in this process, for whoever looks. */
  queued(waiting: number): void {
    this.#state.note({ is: 'queued', at: this.#now, process: this.#parts.process, waiting })
  }

  /** Forgets pauses, reported limits and hold-offs. */
  async forgive(): Promise<void> {
    await this.#state.decide(() => ({ result: undefined, event: { is: 'forgiven', at: this.#now } }))
  }

  /** Whether calls are held off, as far as this process knows. */
  isHeldOff(call: BoundCall): boolean {
    return holdOffBound.refuses(this.#state.known, call, this.#now) !== undefined
  }

  /** Whether the provider saw nothing of the call for whose failure calls are held off. */
  wasUnreached(call: BoundCall): boolean {
    return wasUnreached(this.#state.known, call)
  }

  /** How far the budgets are spent, as far as this process knows. */
  budgetLevel(): BudgetLevel {
    return budgetLevelOf(this.#state.known, this.#now)
  }

  /** Writes what is not written yet, if the store takes it. */
  settle(): Promise<void> {
    return this.#state.settle()
  }

  #announce(before: ProviderState, after: ProviderState, event: ProviderEvent): void {
    const { events, countOthers } = this.#parts
    for (const { name, amount, currency, spent, state } of newlyReached(before, after)) {
      const level = state.announced as Exclude<BudgetLevel, 'free'>
      const facts = { budget: name, level, spent, amount, currency: currency ?? null, until: new Date(state.end) }
      events.tell('budget', { provider: this.#provider, ...facts })
    }
    if (event.is === 'answering') {
      const others = newOthers(before, after, event.at)
      if (others > 0) countOthers(this.#provider, others)
    }
    if (event.is !== 'answering' && event.is !== 'ended') return
    const { endpoint, holdOffScope } = event.call
    this.#announceHoldOff(endpoint, ofName(before.holdOffs, holdOffScope), ofName(after.holdOffs, holdOffScope), after)
    this.#announceHoldOff(null, before.providerHoldOff, after.providerHoldOff, after)
  }

  #announceHoldOff(endpoint: string | null, was: HoldOff | undefined, is: HoldOff | undefined, { lastError }: ProviderState): void {
    const { events, time } = this.#parts
    const where = { provider: this.#provider, endpoint }
    if (was && !is) events.tell('recovered', { what: 'upstream', ...where })
    if (!is || is.failures === was?.failures) return
    events.tell('hold-off', { ...where, failures: is.failures, until: new Date(time.ofOwn(is.until)), what: lastError?.what ?? 'failed' })
  }
}

/** Whether there is nothing that a call could use up. */
export function isBoundless({ limits, spending }: BoundCall): boolean {
  return limits.length === 0 && spending === undefined
}

/** Whether nothing that is known of a provider keeps a call that can use up nothing from leaving, and nothing needs to know of it. */
function boundsNothing({ reports, pausedUntil = 0, holdOffs, providerHoldOff }: ProviderState, now: number): boolean {
  return !reports && now >= pausedUntil && !providerHoldOff && Object.keys(holdOffs).length === 0
}
