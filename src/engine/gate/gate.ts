import type { Endpoint } from '../../core/endpoints/endpoint.js'
import { LimitReachedError } from '../../core/errors/call-errors.js'
import type { Refusal } from '../../core/limits/bound.js'
import type { BudgetLevel } from '../../core/limits/budget.js'
import type { Maybe } from '../../core/ports/maybe.js'
import { CallQueue, type QueuedCall } from './call-queue.js'
import type { GateParts } from './gate-parts.js'
import { boundCall, type Permit, type PermitRequest } from './permit.js'
import { SharedProviderState } from './shared-provider-state.js'

/** Calls under way at once, at the most: a provider that hangs must not fill the memory. */
const mostUnderWay = 10_000

/** Where every call leaves for its provider: none goes past a limit, and none to what failed a moment ago. */
export class Gate {
  readonly #parts: GateParts
  readonly #queues = new Map<string, CallQueue>()
  #underWay = 0

  constructor(parts: GateParts) {
    this.#parts = parts
  }

  /**
   * Lets a call leave, at once or in its turn. Throws, or rejects with, `HeldOffError`, `BudgetSpentError`, with `LimitReachedError` when it would have
   * to wait longer than it may, or with the reason of its signal. Whoever leaves ends the permit.
   */
  enter(call: QueuedCall): Maybe<Permit> {
    const { provider, name } = call.endpoint
    if (this.#underWay >= mostUnderWay) {
      throw new LimitReachedError(provider, name, `${mostUnderWay} calls under way in this process`, this.#parts.clock.now() + 1_000)
    }
    let counts = false
    const entered = this.#queue(provider).enter(call, () => {
      if (counts) this.#underWay--
    })
    const leaves = (permit: Permit) => {
      counts = true
      this.#underWay++
      return permit
    }
    return entered instanceof Promise ? entered.then(leaves) : leaves(entered)
  }

  /** Looks up what a call has to know before it leaves, so that it need not wait for that then; undefined where it would not. */
  lookAhead(call: PermitRequest): QueuedCall['ahead'] {
    const { mode, isGated, provider } = call.endpoint
    return mode === 'measure' || !isGated ? undefined : this.#queue(provider).state.lookAhead(boundCall(call))
  }

  /** Whether an upstream is held off, as far as this process knows. */
  isHeldOff(call: PermitRequest): boolean {
    return this.#queues.get(call.endpoint.provider)?.state.isHeldOff(boundCall(call)) ?? false
  }

  /** Whether the provider saw nothing of the call for whose failure this one is held off. */
  wasUnreached(call: PermitRequest): boolean {
    return this.#queues.get(call.endpoint.provider)?.state.wasUnreached(boundCall(call)) ?? false
  }

  /** How far the budgets of a provider are spent, as far as this process knows. */
  budgetLevel({ provider, spending }: Endpoint): BudgetLevel {
    return (spending && this.#queues.get(provider)?.state.budgetLevel()) || 'free'
  }

  /** What would block a call now, by what the store knows; nothing is counted. */
  look(call: PermitRequest): Promise<Refusal | undefined> {
    return this.#queue(call.endpoint.provider).state.look(boundCall(call))
  }

  /** Forgets the pauses, reported limits and hold-offs of a provider. */
  forgive(provider: string): Promise<void> {
    return this.#queue(provider).state.forgive()
  }

  /** Writes what is not written yet, if the store takes it. */
  async settle(): Promise<void> {
    await Promise.all([...this.#queues.values()].map(({ state }) => state.settle()))
  }

  #queue(provider: string): CallQueue {
    const known = this.#queues.get(provider)
    if (known) return known
    const queue = new CallQueue(new SharedProviderState(provider, this.#parts), this.#parts)
    this.#queues.set(provider, queue)
    return queue
  }
}
