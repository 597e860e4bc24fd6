import type { Endpoint } from '../../core/endpoints/endpoint.js'
import { BudgetSpentError, HeldOffError, LimitReachedError } from '../../core/errors/call-errors.js'
import type { CallEnd, LimitedCall, Passage, Refusal } from '../../core/limits/provider-state.js'
import type { Reported } from '../../core/limits/reported-limits.js'
import type { Maybe } from '../../core/ports/maybe.js'
import { type GateParts, type Leaving, limitedCall } from './permit.js'
import type { SharedProviderState } from './shared-provider-state.js'

/** A call that may leave. */
export interface Pass {
  /** Tells what the provider says of its limits, before the call has ended. */
  readonly told: (told: Reported) => Maybe<void>
  /** Tells that the call has ended, and how: once. */
  readonly end: (end: Omit<CallEnd, 'at' | 'random'>) => Maybe<void>
}

interface Ticket {
  readonly leaving: Leaving
  readonly waitUntil: number
  readonly let: (pass: Pass) => void
  readonly refuse: (error: unknown) => void
  gone: boolean
}

/** Where only a call under way stands in the way, another process may make room: looked at so often, milliseconds. */
const lookAgainMs = 250

/** How often it is noted for others how many calls wait, milliseconds. */
const noteEveryMs = 1_000

/** Where the calls to a provider wait for their turn: those in the background after all others, the endpoints by turns. */
export class CallQueue {
  readonly gate: SharedProviderState
  readonly #parts: GateParts
  /** By endpoint, in the order of their turns; an endpoint that had its turn comes last. */
  readonly #queues = new Map<string, Ticket[]>()
  #pumping: Promise<void> | undefined
  #again = false
  #cancelLook: (() => void) | undefined
  #noted = { size: 0, at: 0 }

  constructor(gate: SharedProviderState, parts: GateParts) {
    this.gate = gate
    this.#parts = parts
  }

  /** How many calls wait. */
  get size(): number {
    let size = 0
    for (const queue of this.#queues.values()) size += queue.length
    return size
  }

  async enter(leaving: Leaving): Promise<Pass> {
    if (leaving.signal.aborted) throw leaving.signal.reason
    if (this.#queues.size === 0) {
      const admission = await this.#try(leaving)
      if ('pass' in admission) return admission.pass
      this.#assertMayWait(leaving, admission.refusal)
    }
    return this.#wait(leaving)
  }

  #assertMayWait({ endpoint, waitMs, urgency }: Leaving, { why, at, sure, what }: Refusal): void {
    const now = this.#parts.clock.now()
    if (why !== 'limit-reached') throw refusing(endpoint, { why, at, what })
    const retryAt = sure ? at : Math.min(at, now + lookAgainMs)
    const full = this.size >= endpoint.queue
    const waits = !full && retryAt <= now + waitMs && waitMs > 0
    const { provider, name } = endpoint
    const doing = waits ? 'waiting' : 'refused'
    this.#parts.events.tell('limited', { provider, endpoint: name, limit: what, retryAt, doing, inBackground: urgency.inBackground })
    if (!waits) throw new LimitReachedError(provider, name, full ? `${what}, and ${endpoint.queue} calls wait already` : what, retryAt)
  }

  #wait(leaving: Leaving): Promise<Pass> {
    const { clock } = this.#parts
    const { endpoint, waitMs, signal } = leaving
    return new Promise((resolve, reject) => {
      if (this.size >= endpoint.queue) {
        const full = `${endpoint.queue} calls wait already`
        return reject(new LimitReachedError(endpoint.provider, endpoint.name, full, clock.now() + lookAgainMs))
      }
      const over = () => {
        ticket.gone = true
        cancel()
        signal.removeEventListener('abort', aborted)
        this.#drop(ticket)
      }
      const aborted = () => ticket.refuse(signal.reason)
      const ticket: Ticket = {
        ...{ leaving, waitUntil: clock.now() + waitMs, gone: false },
        let: (pass) => {
          over()
          resolve(pass)
        },
        refuse: (error) => {
          over()
          reject(error)
        },
      }
      const late = () => {
        ticket.refuse(new LimitReachedError(endpoint.provider, endpoint.name, `no turn within ${waitMs} ms`, clock.now() + lookAgainMs))
      }
      const cancel = clock.later(waitMs, late, true)
      signal.addEventListener('abort', aborted, { once: true })
      const queue = this.#queues.get(endpoint.name)
      if (queue) queue.push(ticket)
      else this.#queues.set(endpoint.name, [ticket])
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
    await this.#note()
    if (this.#queues.size === 0) return
    const { clock } = this.#parts
    const now = clock.now()
    this.#cancelLook = clock.later(Math.max(1, Math.min(lookAt, now + 60_000) - now), () => this.#pump())
  }

  /** Notes how many wait, when that has changed, now and then; that none waits any more, at once. */
  async #note(): Promise<void> {
    const now = this.#parts.clock.now()
    const { size } = this
    if (size === this.#noted.size || (size > 0 && now - this.#noted.at < noteEveryMs)) return
    this.#noted = { size, at: now }
    await this.gate.queued(size)
  }

  /** Lets as many leave as may, by turns. Returns when to look again. */
  async #round(): Promise<number> {
    let lookAt = Number.POSITIVE_INFINITY
    for (const ticket of this.#inTurn()) {
      if (ticket.gone) continue
      const { endpoint } = ticket.leaving
      const admission = await this.#try(ticket.leaving)
      if ('pass' in admission) {
        if (ticket.gone) await admission.pass.end({ how: 'left' })
        else {
          this.#turnOver(endpoint.name)
          ticket.let(admission.pass)
        }
        this.#again = true
        return lookAt
      }
      const { why, at, sure, providerWide, what } = admission.refusal
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
      if (providerWide && !ticket.leaving.urgency.inBackground) break
    }
    return lookAt
  }

  /** The first of each endpoint: those not in the background before those who are. */
  *#inTurn(): Iterable<Ticket> {
    for (const inBackground of [false, true]) {
      for (const queue of [...this.#queues.values()]) {
        const first = queue.find((ticket) => ticket.leaving.urgency.inBackground === inBackground)
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
    const { name } = ticket.leaving.endpoint
    const queue = this.#queues.get(name)
    const place = queue?.indexOf(ticket) ?? -1
    if (place >= 0) queue?.splice(place, 1)
    if (queue?.length === 0) this.#queues.delete(name)
  }

  async #try(leaving: Leaving): Promise<{ pass: Pass } | { refusal: Refusal }> {
    const call = limitedCall(leaving)
    const admission = await this.gate.admit(call)
    return 'refusal' in admission ? admission : { pass: this.#pass(call, admission.passage) }
  }

  #pass(call: LimitedCall, passage: Passage): Pass {
    return {
      told: (told) => this.gate.told(passage, told),
      end: async (end) => {
        const { clock, random } = this.#parts
        await this.gate.end(call, passage, { ...end, at: clock.now(), random: random() })
        if (this.#queues.size > 0) this.#pump()
      },
    }
  }
}

/** What a call that there is no sense in waiting for ends in. */
function refusing({ provider, name }: Endpoint, { why, at, what }: Pick<Refusal, 'why' | 'at' | 'what'>): HeldOffError | BudgetSpentError {
  return why === 'held-off' ? new HeldOffError(provider, name, at) : new BudgetSpentError(provider, name, what, at)
}
