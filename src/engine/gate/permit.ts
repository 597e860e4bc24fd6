import type { Endpoint } from '../../core/endpoints/endpoint.js'
import type { BoundCall, CallEnd, PermitFacts } from '../../core/limits/bound.js'
import type { Reported } from '../../core/limits/reported-limits.js'
import type { GateParts } from './gate-parts.js'
import { isBoundless, type SharedProviderState } from './shared-provider-state.js'

/** A call that wants to leave for its provider. */
export interface PermitRequest {
  readonly endpoint: Endpoint
  /** Its path, where its endpoint covers many. */
  readonly path?: string | undefined
  /** Whether it comes after others; may be found out to be more urgent while it waits. */
  readonly urgency: { inBackground: boolean; readonly nobodyWaits?: boolean }
}

/** Paths longer than this share a hold-off with those that begin alike. */
const longestPath = 200

/** A call, as the bounds of its provider see it. */
export function boundCall({ endpoint, path, urgency }: PermitRequest): BoundCall {
  const { name, limits, spending, holdOff, timeouts, believeUpToMs } = endpoint
  return {
    endpoint: name,
    limits,
    spending,
    holdOff,
    believeUpToMs,
    holdOffScope: path === undefined ? name : `${name} ${path.slice(0, longestPath)}`,
    inBackground: urgency.inBackground,
    leaseMs: timeouts.leaseMs,
  }
}

/** What a call came to, as far as its permit is told. */
export type Result = Pick<CallEnd, 'how' | 'what' | 'saidWhen'>

/** Permission for one call to leave. It is ended exactly once: what comes after its end changes nothing. */
export class Permit {
  readonly #call: BoundCall
  readonly #facts: PermitFacts
  readonly #state: SharedProviderState
  readonly #parts: GateParts
  readonly #onEnd: () => void
  #isOver = false
  #isSettled = false
  #cancelExtension: () => void

  constructor(call: BoundCall, facts: PermitFacts, state: SharedProviderState, parts: GateParts, onEnd: () => void) {
    this.#call = call
    this.#facts = facts
    this.#state = state
    this.#parts = parts
    this.#onEnd = onEnd
    this.#cancelExtension = isBoundless(call) ? noop : this.#extendLater()
  }

  /** The head of the answer has arrived: what it reports of limits; and `result`, where it says already that the call failed. */
  answering(reported: Reported | undefined, result: Result | undefined): void {
    if (this.#isOver || (!reported && !result)) return
    this.#isSettled ||= result !== undefined
    this.#state.answering(this.#call, this.#facts, reported, result && this.#endOf(result))
  }

  end(end: Omit<CallEnd, 'at' | 'random'>): void {
    if (this.#isOver) return
    this.#isOver = true
    this.#cancelExtension()
    this.#state.ended(this.#call, this.#facts, this.#endOf(this.#isSettled ? { ...end, how: undefined } : end))
    this.#onEnd()
  }

  #endOf(end: Omit<CallEnd, 'at' | 'random'>): CallEnd {
    const { clock, random } = this.#parts
    return { ...end, at: clock.now(), random: random() }
  }

  /** While a call goes on, others must not take it for ended. */
  #extendLater(): () => void {
    const { clock } = this.#parts
    const { leaseMs } = this.#call
    return clock.later(leaseMs / 2, () => {
      this.#state.extended(this.#call, this.#facts)
      this.#cancelExtension = this.#extendLater()
    })
  }
}

function noop(): void {}
