import type { Endpoint } from '../../core/endpoints/endpoint.js'
import { BudgetSpentError, HeldOffError, LimitReachedError } from '../../core/errors/call-errors.js'
import type { Refusal } from '../../core/limits/bound.js'
import type { ProviderState } from '../../core/limits/provider-state.js'
import type { Maybe } from '../../core/ports/maybe.js'
import type { Cancellation } from '../cancellation.js'
import type { GateParts } from './gate-parts.js'
import { boundCall, Permit, type PermitRequest } from './permit.js'
import type { Admitted, SharedProviderState } from './shared-provider-state.js'

/** A call that waits for its turn, if it has to. */
export interface QueuedCall extends PermitRequest {
  /** How long it waits for its turn at the most, milliseconds. */
  readonly waitMs: number
  /** What ends its wait. */
  readonly ending: Cancellation
  /** What is known of its provider, where that was asked for a moment ago. */
  readonly ahead?: Maybe<ProviderState> | undefined
}

interface Ticket {
  readonly call: QueuedCall
  readonly waitUntil: number
  readonly onEnd: () => void
  readonly admit: (permit: Permit) => void
  readonly refuse: (error: unknown) => void
  gone: boolean
}

type Tried = { readonly permit: Permit } | { readonly refusal: Refusal }

/** Where only a call under way blocks, another process may make room: looked at so often, milliseconds. */
const lookAgainMs = 250

/** How often it is noted for others how many calls wait, milliseconds. */
const noteEveryMs = 1_000

/** Where the calls to a provider wait for their turn: those in the background after all others, the endpoints by turns. */
export class CallQueue {
  readonly state: SharedProviderState
  readonly #parts: GateParts
  /** By endpoint, in the order of their turns; an endpoint that had its turn comes last. */
  readonly #queues = new Map<string, Ticket[]>()
  #pumping: Promise<void> | undefined
  #again = false
  #cancelLook: (() => void) | undefined
  #noted = { size: 0, at: 0 }

  constructor(state: SharedProviderState, parts: GateParts) {
    this.state = state
    this.#parts = parts
  }

  /** How many calls wait. */
  get size(): number {
    let size = 0
    for (const queue of this.#queues.values()) size += queue.length
    return size
  }

  /** `onEnd` is called once the permit that it comes to is ended. */
  enter(call: QueuedCall, onEnd: () => void): Maybe<Permit> {
    if (call.ending.aborted) throw call.ending.reason
    if (this.#queues.size > 0) return this.#wait(call, onEnd)
    const tried = this.#try(call, onEnd, call.ahead)
    return tried instanceof Promise ? tried.then((one) => this.#entered(call, onEnd, one)) : this.#entered(call, onEnd, tried)
  }

  #entered(call: QueuedCall, onEnd: () => void, tried: Tried): Maybe<Permit> {
    if ('permit' in tried) return tried.permit
    this.#assertMayWait(call, tried.refusal)
    return this.#wait(call, onEnd)
  }

  #assertMayWait({ endpoint, waitMs, urgency }: QueuedCall, { why, at, sure, what }: Refusal): void {
    const now = this.#parts.clock.now()
    if (why !== 'limit-reached') throw refusing(endpoint, { why, at, what })
    const retryAt = sure ? at : Math.min(at, now + lookAgainMs)
    const full = this.size >= endpoint.queue
    const waits = !full && retryAt <= now + waitMs && waitMs > 0
    const { provider, name } = endpoint
    const doing = waits ? 'waiting' : 'refused'
    this.#parts.events.tell('limited', {
      provider,
      endpoint: name,
      limit: what,
      retryAt: momentOrNull(retryAt),
      doing,
      inBackground: urgency.inBackground,
    })
    if (!waits) throw new LimitReachedError(provider, name, full ? `${what}, and ${endpoint.queue} calls wait already` : what, retryAt)
  }

  #wait(call: QueuedCall, onEnd: () => void): Promise<Permit> {
    const { clock } = this.#parts
    const { endpoint, waitMs, ending } = call
    const { provider, name } = endpoint
    return new Promise((resolve, reject) => {
      if (this.size >= endpoint.queue) {
        return reject(new LimitReachedError(provider, name, `${endpoint.queue} calls wait already`, clock.now() + lookAgainMs))
      }
      const over = () => {
        ticket.gone = true
        cancel()
        forget()
        this.#drop(ticket)
      }
      const aborted = () => ticket.refuse(ending.reason)
      const ticket: Ticket = {
        ...{ call, onEnd, waitUntil: clock.now() + waitMs, gone: false },
        admit: (permit) => {
          over()
          resolve(permit)
        },
        refuse: (error) => {
          over()
          reject(error)
        },
      }
      const late = () => ticket.refuse(new LimitReachedError(provider, name, `no turn within ${waitMs} ms`, clock.now() + lookAgainMs))
      const cancel = clock.later(waitMs, late, true)
      const forget = ending.onAbort(aborted)
      const queue = this.#queues.get(name)
      if (queue) queue.push(ticket)
      else this.#queues.set(name, [ticket])
      this.#pump()
    })
  }

  /** Has those who wait try again; called whenever there may be room. */
  #pump(): void {
    this.#again = true
    this.#pumping ??= this.#turns().finally(() => {
      this.#pumping = undefined
    })
  }

  async #turns(): Promise<void> {
    let lookAt = Number.POSITIVE_INFINITY
    while (this.#again) {
      this.#again = false
      lookAt = await this.#round()
    }
    this.#cancelLook?.()
    this.#cancelLook = undefined
    this.#note()
    if (this.#queues.size === 0) return
    const { clock } = this.#parts
    const now = clock.now()
    this.#cancelLook = clock.later(Math.max(1, Math.min(lookAt, now + 60_000) - now), () => this.#pump())
  }

  /** Notes how many wait, when that has changed, now and then; that none waits any more, at once. */
  #note(): void {
    const now = this.#parts.clock.now()
    const { size } = this
    if (size === this.#noted.size || (size > 0 && Math.abs(now - this.#noted.at) < noteEveryMs)) return
    this.#noted = { size, at: now }
    this.state.queued(size)
  }

  /** Lets as many leave as may, by turns. Returns when to look again. */
  async #round(): Promise<number> {
    let lookAt = Number.POSITIVE_INFINITY
    for (const ticket of this.#inTurn()) {
      if (ticket.gone) continue
      const { endpoint, urgency } = ticket.call
      const tried = await this.#try(ticket.call, ticket.onEnd)
      if ('permit' in tried) {
        if (ticket.gone) tried.permit.end({ how: 'left' })
        else {
          this.#turnOver(endpoint.name)
          ticket.admit(tried.permit)
        }
        this.#again = true
        return lookAt
      }
      const { why, at, sure, providerWide, what } = tried.refusal
      if (why !== 'limit-reached') {
        ticket.refuse(refusing(endpoint, { why, at, what }))
        this.#again = true
        continue
      }
      if (sure && at > ticket.waitUntil) {
        ticket.refuse(new LimitReachedError(endpoint.provider, endpoint.name, what, at))
        this.#again = true
        continue
      }
      lookAt = Math.min(lookAt, sure ? at : Math.min(at, this.#parts.clock.now() + lookAgainMs))
      if (providerWide && !urgency.inBackground) break
    }
    return lookAt
  }

  /** The first of each endpoint: those not in the background before those who are. */
  *#inTurn(): Iterable<Ticket> {
    for (const inBackground of [false, true]) {
      for (const queue of [...this.#queues.values()]) {
        const first = queue.find(({ call }) => call.urgency.inBackground === inBackground)
        if (first) yield first
      }
    }
  }

  #turnOver(endpoint: string): void {
    const queue = this.#queues.get(endpoint)
    if (!queue) return
    this.#queues.delete(endpoint)
    this.#queues.set(endpoint, queue)
  }

  #drop(ticket: Ticket): void {
    const { name } = ticket.call.endpoint
    const queue = this.#queues.get(name)
    const place = queue?.indexOf(ticket) ?? -1
    if (place >= 0) queue?.splice(place, 1)
    if (queue?.length === 0) this.#queues.delete(name)
  }

  #try(request: QueuedCall, onEnd: () => void, ahead?: QueuedCall['ahead']): Maybe<Tried> {
    const call = boundCall(request)
    const ended = () => {
      onEnd()
      if (this.#queues.size > 0) this.#pump()
    }
    const tried = (admitted: Admitted): Tried =>
      'refusal' in admitted ? admitted : { permit: new Permit(call, admitted.permit, this.state, this.#parts, ended) }
    const admitted = this.state.admit(call, ahead)
    return admitted instanceof Promise ? admitted.then(tried) : tried(admitted)
  }
}

function momentOrNull(at: number): Date | null {
  return Number.isFinite(at) ? new Date(at) : null
}

/** What a call that there is no sense in waiting for ends in. */
function refusing({ provider, name }: Endpoint, { why, at, what }: Pick<Refusal, 'why' | 'at' | 'what'>): HeldOffError | BudgetSpentError {
  return why === 'held-off' ? new HeldOffError(provider, name, at) : new BudgetSpentError(provider, name, what, at)
}
