import type { Reuse } from '../../core/decide/decide.js'
import type { StoredTimes } from '../../core/decide/entry-times.js'
import type { Claim, Claiming } from '../../core/ports/claims.js'
import type { Call, CallTerms } from '../call/call.js'
import type { Cancellation } from '../cancellation.js'
import type { Landed } from '../upstream/landed.js'
import type { ClaimAhead } from './claim-ahead.js'
import type { ClaimedCalls } from './claimed-calls.js'
import type { Found } from './look-up.js'
import type { RunningCalls } from './running-calls.js'
import { SharedCall } from './shared-call.js'

/** Keys whose answers are for one caller alone, remembered at the most. */
const mostUnshared = 1_000

/** Who asks, and on which terms. */
export interface Caller<T> {
  readonly call: Call<T>
  readonly terms: CallTerms
  /** When it has to be answered, in ticks of the clock. */
  readonly deadline: number | undefined
}

/** How an upstream call is reused. */
export interface Reusing {
  readonly reuse: Reuse
  /** Whether no call of another process is waited for. */
  readonly over?: boolean
  /** The claim on its key, where that is held already. */
  readonly claim?: Claim | undefined
  /** One that was asked for already. */
  readonly ahead?: ClaimAhead | undefined
}

/** The upstream calls under way, by key: one for all who ask. */
export class CallsInFlight {
  readonly #upstream: ClaimedCalls
  readonly #running: RunningCalls
  readonly #inFlight = new Map<string, SharedCall<Landed<unknown>>>()
  readonly #calls = new WeakMap<SharedCall<Landed<unknown>>, Call<unknown>>()
  /** Keys whose last answer the upstream did not let others have: their callers do not wait for each other. */
  readonly #unshared = new Set<string>()

  constructor(upstream: ClaimedCalls, running: RunningCalls) {
    this.#upstream = upstream
    this.#running = running
  }

  has(key: string): boolean {
    return this.#inFlight.has(key)
  }

  /** Asks for the claims on the keys under which the answer of a call may belong before it is known whether it leaves, where it would need one. */
  askAhead(call: Call<unknown>, keys: readonly string[]): ClaimAhead | undefined {
    const isNeeded = call.endpoint.collapsesAll && !keys.some((key) => this.has(key) || this.#unshared.has(key))
    return isNeeded ? this.#upstream.askAhead(call, keys) : undefined
  }

  /** Notes what is stored under a key, by its times, of a store that takes its time. */
  saw(key: string, times: StoredTimes | undefined): void {
    this.#upstream.saw(key, times)
  }

  /** The upstream call for a key: the one under way if that will do, else a new one, which later callers find under way. */
  callFor<T>(
    { call, terms, deadline }: Caller<T>,
    { key, entry }: Found,
    { reuse, over: isAsked = false, claim, ahead }: Reusing,
  ): { shared: SharedCall<Landed<T>>; joined: boolean } {
    const inFlight = this.#inFlight.get(key) as SharedCall<Landed<T>> | undefined
    if (reuse === 'shared' && inFlight && !inFlight.abandoned && !inFlight.superseded && !this.#unshared.has(key)) {
      ahead?.drop()
      if (!terms.urgency.inBackground) inFlight.hurry()
      return { shared: inFlight, joined: true }
    }
    const isReusable = reuse !== 'none'
    if (!isReusable) ahead?.drop()
    const isAlone = reuse === 'own' || isAsked || !call.endpoint.collapsesAll || this.#unshared.has(key)
    const begin = (self: SharedCall<Landed<T>>, ending: Cancellation) => {
      const isSuperseded = () => self.superseded
      return this.#upstream.make(
        { call, terms, deadline, previous: entry, isReusable, isSuperseded, ending },
        { key, over: isAlone, claim, ahead },
      )
    }
    const shared = new SharedCall<Landed<T>>(begin, () => {
      terms.urgency.inBackground = false
    })
    if (isReusable) {
      if (inFlight) inFlight.superseded = true
      this.#inFlight.set(key, shared as SharedCall<Landed<unknown>>)
      this.#calls.set(shared as SharedCall<Landed<unknown>>, call)
    }
    const over = this.#running.begun(shared, call.endpoint)
    const ended = shared.ended.finally(() => {
      over()
      if (this.#inFlight.get(key) === (shared as SharedCall<never>)) this.#inFlight.delete(key)
    })
    void this.#running.track(ended)
    return { shared, joined: false }
  }

  /** Notes whether the upstream lets others have the answers of a key. */
  isShared(key: string, isShared: boolean): void {
    if (isShared) this.#unshared.delete(key)
    else if (this.#unshared.size < mostUnshared) this.#unshared.add(key)
  }

  /** Has the answers that are on their way to some keys not stored. */
  supersedeWhere(isMeant: (on: Omit<Claiming, 'storedAt' | 'over'>) => boolean): void {
    for (const [key, call] of this.#inFlight) {
      const { endpoint, labels } = this.#calls.get(call) as Call<unknown>
      if (!isMeant({ key, provider: endpoint.provider, endpoint: endpoint.name, labels })) continue
      call.superseded = true
      this.#inFlight.delete(key)
    }
  }

  /** Has the answers that are on their way to a key, and to what follows it, not stored: something newer is known. */
  supersede(prefix: string): void {
    for (const [key, call] of this.#inFlight) {
      if (key !== prefix && !key.startsWith(`${prefix} `)) continue
      call.superseded = true
      this.#inFlight.delete(key)
    }
  }
}
