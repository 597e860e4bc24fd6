import type { BudgetLevel } from '../../core/limits/budget.js'
import { type HoldOff, type HoldOffRule, heldOffUntil } from '../../core/limits/hold-off.js'
import { budgetLevelOf, newlyReached } from '../../core/limits/provider-spending.js'
import {
  type Admission,
  admit,
  type CallEnd,
  type LimitedCall,
  newOthers,
  nothingKnown,
  type Passage,
  type ProviderState,
  type Refusal,
  withBegun,
  withEnded,
  withQueue,
  withReported,
} from '../../core/limits/provider-state.js'
import type { Reported } from '../../core/limits/reported-limits.js'
import { type ProviderStatus, statusOf } from '../../core/limits/status.js'
import type { Maybe } from '../../core/ports/maybe.js'
import type { Store } from '../../core/ports/store.js'
import type { GateParts } from './permit.js'

/** A change of what is known, which can be made again on what the store knows once it takes changes again. */
interface Change<T> {
  make(state: ProviderState): { readonly state: ProviderState | undefined; readonly result: T }
  again(state: ProviderState, result: T): ProviderState
}

/** How long what is known is kept after its last change, milliseconds: longer than any window. */
const keptForMs = 400 * 86_400_000

/** Changes kept for a store that takes none, at the most. */
const mostUnwritten = 20_000

/** The names under which all who share a store find what is known of its providers begin so. */
const stateNames = 'provider '

/** How the providers stand of which a store knows anything, by name. */
export async function statusOfProviders(store: Store, now: number): Promise<ProviderStatus[]> {
  const records = [...(await store.records.records(stateNames, now))].sort(([a], [b]) => (a < b ? -1 : 1))
  return records.map(([name, value]) => statusOf(name.slice(stateNames.length), parsed(value), now))
}

/** What a store knows of a provider. */
export async function knownOf(store: Store, provider: string, now: number): Promise<ProviderState> {
  const value = (await store.records.records(stateNames + provider, now)).get(stateNames + provider)
  return value === undefined ? nothingKnown : parsed(value)
}

/** Changes what a store knows of a provider, in one step. */
export async function changeProvider(
  store: Store,
  provider: string,
  now: number,
  change: (state: ProviderState) => ProviderState,
): Promise<void> {
  await store.records.update(stateNames + provider, now, (value) => ({
    value: JSON.stringify(change(value === undefined ? nothingKnown : parsed(value))),
    keepUntil: now + keptForMs,
  }))
}

/** What is known of a provider, shared by all processes on one store; kept by this process alone while the store fails. */
export class SharedProviderState {
  readonly #provider: string
  readonly #parts: GateParts
  #known: ProviderState = nothingKnown
  #unwritten: ((state: ProviderState) => ProviderState)[] = []
  #busy: Promise<unknown> | undefined

  constructor(provider: string, parts: GateParts) {
    this.#provider = provider
    this.#parts = parts
  }

  /** Asks for a way out: counts the call if it is let through. */
  admit(call: LimitedCall): Maybe<{ passage: Passage } | { refusal: Refusal }> {
    const admitted = this.#change<{ admission: Admission; before: ProviderState }>({
      make: (before) => {
        const admission = admit(before, call, this.#parts.clock.now())
        return { state: admission.state, result: { admission, before } }
      },
      again: (state, { admission }) => (admission.admitted ? withBegun(state, call, admission.passage) : state),
    })
    const outcome = ({ admission, before }: { admission: Admission; before: ProviderState }) => {
      if (admission.state) this.#tellBudgets({ before, after: admission.state })
      return admission.admitted ? { passage: admission.passage } : { refusal: admission }
    }
    return admitted instanceof Promise ? admitted.then(outcome) : outcome(admitted)
  }

  /** What would stand in the way of a call now, by what the store knows; nothing is counted. */
  async look(call: LimitedCall): Promise<Refusal | undefined> {
    const { store, clock } = this.#parts
    const now = clock.now()
    try {
      const value = (await store.records.records(stateNames + this.#provider, now)).get(stateNames + this.#provider)
      if (value !== undefined && this.#unwritten.length === 0) this.#known = parsed(value)
    } catch {
      // then what this process knows
    }
    const admission = admit(this.#known, call, now)
    return admission.admitted ? undefined : admission
  }

  /** Counts the end of a call that was let through, and tells of pauses that begin or end. */
  end(call: LimitedCall, passage: Passage, end: CallEnd): Maybe<void> {
    const told = this.#change<Turn>({
      make: (before) => {
        const state = withEnded(before, call, passage, end)
        return { state, result: { before, after: state } }
      },
      again: (state) => withEnded(state, call, passage, end),
    })
    return told instanceof Promise ? told.then((turn) => this.#tell(call.endpoint, turn)) : this.#tell(call.endpoint, told)
  }

  /** Learns what the provider says of its limits. */
  told(passage: Passage, told: Reported): Maybe<void> {
    const at = this.#parts.clock.now()
    const learn = (before: ProviderState) => withReported(before, passage, told, at)
    const turn = this.#change<Turn>({
      make: (before) => {
        const after = learn(before)
        return { state: after, result: { before, after } }
      },
      again: learn,
    })
    const count = ({ before, after }: Turn) => {
      const others = newOthers(before, after, at)
      if (others > 0) this.#parts.countOthers(this.#provider, others)
    }
    return turn instanceof Promise ? turn.then(count) : count(turn)
  }

  /** Notes how many calls wait in this process, for whoever looks. */
  queued(waiting: number): Maybe<void> {
    const { clock, process } = this.#parts
    const note = (before: ProviderState) => withQueue(before, process, waiting, clock.now())
    return this.#change<undefined>({ make: (before) => ({ state: note(before), result: undefined }), again: note })
  }

  /** Until when calls are held off, as far as this process knows. */
  heldOffUntil(endpoint: string, rule: HoldOffRule, now: number): number | undefined {
    const { providerHoldOff, holdOffs } = this.#known
    return heldOffUntil(providerHoldOff, rule, now) ?? heldOffUntil(holdOffs[endpoint], rule, now)
  }

  /** How far the budgets are spent, as far as this process knows. */
  budgetLevel(now: number): BudgetLevel {
    return budgetLevelOf(this.#known, now)
  }

  /** Writes what the store did not take, if it takes it now. */
  async settle(): Promise<void> {
    if (this.#unwritten.length > 0) await this.#change({ make: () => ({ state: undefined, result: undefined }), again: (state) => state })
  }

  /** One change at a time, so that none is written twice. */
  #change<T>(change: Change<T>): Maybe<T> {
    if (!this.#busy) return this.#changeNow(change)
    return this.#busy.then(() => this.#change(change))
  }

  #changeNow<T>(change: Change<T>): Maybe<T> {
    const { store, clock } = this.#parts
    const now = clock.now()
    let result: T | undefined
    let state = this.#known
    try {
      const done = store.records.update(stateNames + this.#provider, now, (value) => {
        const before = this.#unwritten.reduce((known, again) => again(known), value === undefined ? nothingKnown : parsed(value))
        const made = change.make(before)
        result = made.result
        state = made.state ?? before
        return made.state || this.#unwritten.length > 0 ? { value: JSON.stringify(state), keepUntil: now + keptForMs } : undefined
      })
      if (!(done instanceof Promise)) return this.#took(state, result as T)
      const settled = done.then(
        () => this.#took(state, result as T),
        () => this.#alone(change),
      )
      this.#busy = settled.finally(() => {
        this.#busy = undefined
      })
      return settled
    } catch {
      return this.#alone(change)
    }
  }

  #took<T>(state: ProviderState, result: T): T {
    this.#known = state
    this.#unwritten = []
    return result
  }

  #alone<T>(change: Change<T>): T {
    const { state, result } = change.make(this.#known)
    if (!state) return result
    this.#known = state
    this.#unwritten.push((known) => change.again(known, result))
    if (this.#unwritten.length > mostUnwritten) this.#unwritten = [() => this.#known]
    return result
  }

  #tellBudgets({ before, after }: Turn): void {
    for (const { name, amount, currency, spent, state } of newlyReached(before, after)) {
      const level = state.announced as Exclude<BudgetLevel, 'free'>
      const facts = { budget: name, level, spent, amount, currency: currency ?? null, until: state.end }
      this.#parts.events.tell('budget', { provider: this.#provider, ...facts })
    }
  }

  #tell(endpoint: string, turn: Turn): void {
    const { before, after } = turn
    this.#tellBudgets(turn)
    this.#tellOne(endpoint, before.holdOffs[endpoint], after.holdOffs[endpoint], after)
    this.#tellOne(null, before.providerHoldOff, after.providerHoldOff, after)
  }

  #tellOne(endpoint: string | null, was: HoldOff | undefined, is: HoldOff | undefined, { lastError }: ProviderState): void {
    const { events } = this.#parts
    const where = { provider: this.#provider, endpoint }
    if (was && !is) events.tell('recovered', { what: 'upstream', ...where })
    if (!is || is.failures === was?.failures) return
    events.tell('hold-off', { ...where, failures: is.failures, until: is.until, what: lastError?.what ?? 'failed' })
  }
}

interface Turn {
  readonly before: ProviderState
  readonly after: ProviderState
}

/** What a store gives that is no state counts as nothing known. */
function parsed(value: string): ProviderState {
  try {
    const state = JSON.parse(value) as ProviderState
    return typeof state.limits === 'object' &&
      typeof state.holdOffs === 'object' &&
      typeof state.reported === 'object' &&
      typeof state.queues === 'object'
      ? state
      : nothingKnown
  } catch {
    return nothingKnown
  }
}
