import type { Endpoint } from '../../core/endpoints/endpoint.js'
import { LimitReachedError } from '../../core/errors/call-errors.js'
import type { BudgetLevel } from '../../core/limits/budget.js'
import type { Refusal } from '../../core/limits/provider-state.js'
import { CallQueue, type Pass } from './call-queue.js'
import { type GateParts, type Leaving, limitedCall } from './permit.js'
import { SharedProviderState } from './shared-provider-state.js'

/** Calls under way at once, at the most: a provider that hangs must not fill the memory. */
const mostUnderWay = 10_000

/** Where every call leaves for its provider: none goes past a limit, and none to what failed a moment ago. */
export class Gate {
  readonly #parts: GateParts
  readonly #rooms = new Map<string, CallQueue>()
  #underWay = 0

  constructor(parts: GateParts) {
    this.#parts = parts
  }

  /**
   * Lets a call leave, at once or in its turn. Rejects with `HeldOffError`, `BudgetSpentError`, with `LimitReachedError` when it would have to wait longer
   * than it may, or with the reason of its signal. Whoever leaves tells the end.
   */
  async enter(leaving: Leaving): Promise<Pass> {
    const { provider, name } = leaving.endpoint
    if (this.#underWay >= mostUnderWay) {
      throw new LimitReachedError(provider, name, `${mostUnderWay} calls under way in this process`, this.#parts.clock.now() + 1_000)
    }
    const pass = await this.#room(provider).enter(leaving)
    this.#underWay++
    return {
      ...pass,
      end: (end) => {
        this.#underWay--
        return pass.end(end)
      },
    }
  }

  /** Whether an upstream is held off, as far as this process knows. */
  heldOff({ provider, name, holdOff }: Endpoint): boolean {
    return this.#rooms.get(provider)?.gate.heldOffUntil(name, holdOff, this.#parts.clock.now()) !== undefined
  }

  /** How far the budgets of a provider are spent, as far as this process knows. */
  budgetLevel({ provider, spending }: Endpoint): BudgetLevel {
    return (spending && this.#rooms.get(provider)?.gate.budgetLevel(this.#parts.clock.now())) || 'free'
  }

  /** What would stand in the way of a call now, by what the store knows; nothing is counted. */
  look(leaving: Pick<Leaving, 'endpoint' | 'urgency'>): Promise<Refusal | undefined> {
    return this.#room(leaving.endpoint.provider).gate.look(limitedCall(leaving))
  }

  /** Writes what stores did not take. */
  async settle(): Promise<void> {
    for (const { gate } of this.#rooms.values()) await gate.settle()
  }

  #room(provider: string): CallQueue {
    const known = this.#rooms.get(provider)
    if (known) return known
    const room = new CallQueue(new SharedProviderState(provider, this.#parts), this.#parts)
    this.#rooms.set(provider, room)
    return room
  }
}
