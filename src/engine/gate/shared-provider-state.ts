import { admit, isClockSetBack, withClock } from '../../core/limits/admission.js'
import type { BoundCall, CallEnd, PermitFacts, Refusal } from '../../core/limits/bound.js'
import type { BudgetLevel } from '../../core/limits/budget.js'
import { budgetLevelOf, newlyReached } from '../../core/limits/budget-bound.js'
import type { HoldOff } from '../../core/limits/hold-off.js'
import { holdOffBound } from '../../core/limits/hold-off-bound.js'
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
import type { Maybe } from '../../core/ports/maybe.js'
import type { GateParts } from './gate-parts.js'
import { keepForMs, recordName, recordOf } from './provider-records.js'
import { SharedState } from './shared-state.js'

type Admitted = { readonly permit: PermitFacts } | { readonly refusal: Refusal }

/** What is known of a provider, shared by all processes on one store. */
export class SharedProviderState {
  readonly #provider: string
  readonly #parts: GateParts
  readonly #state: SharedState<ProviderState, ProviderEvent>

  constructor(provider: string, parts: GateParts) {
    const { store, clock, process } = parts
    this.#provider = provider
    this.#parts = parts
    this.#state = new SharedState({
      ...{ records: store.records, clock, name: recordName(provider), keepForMs },
      ...{ initial: nothingKnown, parse: parseProviderState, reduce: withEvent, changesOf: ({ changes = 0 }) => changes },
      numberOf: (state) => numberSeen(state, process),
      numbered: (state, number) => withNumberSeen(state, process, number, clock.now()),
      changed: (before, after, event) => this.#announce(before, after, event),
    })
  }

  /** Asks for a permit: counts the call if it is let through. */
  admit(call: BoundCall): Maybe<Admitted> {
    return this.#state.decide<Admitted>((recorded) => {
      const at = this.#parts.clock.now()
      const admission = admit(withClock(recorded, at), call, at)
      if (admission.admitted) return { result: admission, event: { is: 'begun', at, call, permit: admission.permit } }
      const { refusal, by } = admission
      const isRemembered = (by.refused !== undefined && by.refused(recorded, call, at) !== recorded) || isClockSetBack(recorded, at)
      return { result: { refusal }, event: isRemembered ? { is: 'refused', at, call, by } : undefined }
    })
  }

  /** What would block a call now, by what the store knows; nothing is counted. */
  async look(call: BoundCall): Promise<Refusal | undefined> {
    const { store, clock } = this.#parts
    const now = clock.now()
    try {
      this.#state.learn(await recordOf(store.records, this.#provider, now))
    } catch {
      // then what this process knows
    }
    const admission = admit(withClock(this.#state.known, now), call, now)
    return admission.admitted ? undefined : admission.refusal
  }

  /** The head of an answer has arrived: what it reports of limits, and what the call came to where that is settled. */
  answering(call: BoundCall, permit: PermitFacts, reported: Reported | undefined, result: CallEnd | undefined): void {
    this.#state.note({ is: 'answering', at: this.#parts.clock.now(), call, permit, reported, result })
  }

  /** A call takes longer than what it was counted with. */
  extended(call: BoundCall, permit: PermitFacts, until: number): void {
    this.#state.note({ is: 'extended', at: this.#parts.clock.now(), call, permit, until })
  }

  /** Counts the end of a call that was let through. */
  ended(call: BoundCall, permit: PermitFacts, end: CallEnd): void {
    this.#state.note({ is: 'ended', at: end.at, call, permit, end })
  }

  /** Notes how many calls wait in this process, for whoever looks. */
  queued(waiting: number): void {
    const { clock, process } = this.#parts
    this.#state.note({ is: 'queued', at: clock.now(), process, waiting })
  }

  /** Forgets pauses, reported limits and hold-offs. */
  async forgive(): Promise<void> {
    await this.#state.decide(() => ({ result: undefined, event: { is: 'forgiven', at: this.#parts.clock.now() } }))
  }

  /** Whether calls are held off, as far as this process knows. */
  isHeldOff(call: BoundCall, now: number): boolean {
    return holdOffBound.refuses(this.#state.known, call, now) !== undefined
  }

  /** How far the budgets are spent, as far as this process knows. */
  budgetLevel(now: number): BudgetLevel {
    return budgetLevelOf(this.#state.known, now)
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
    const { events } = this.#parts
    const where = { provider: this.#provider, endpoint }
    if (was && !is) events.tell('recovered', { what: 'upstream', ...where })
    if (!is || is.failures === was?.failures) return
    events.tell('hold-off', { ...where, failures: is.failures, until: new Date(is.until), what: lastError?.what ?? 'failed' })
  }
}
