import type { Claim } from '../../core/ports/claims.js'
import type { Clock } from '../../core/ports/clock.js'
import type { Call } from '../call/call.js'
import type { Ended } from '../upstream/landed.js'
import type { CallsInFlight } from './calls-in-flight.js'
import type { ClaimAhead } from './claim-ahead.js'
import type { ClaimedCalls } from './claimed-calls.js'
import type { Found } from './look-up.js'

/** How often the refresh of a key is tried, milliseconds, and of how many keys that is remembered. */
const refreshEveryMs = 250
const mostTried = 10_000

/** What came of an upstream call that nobody waited for. */
export type Brought =
  | { readonly result: 'answered'; readonly ended: Ended | undefined }
  | { readonly result: 'failed'; readonly error: unknown }
  | { readonly result: 'elsewhere' }

/** Refreshes entries that nobody waits for: one call for a key, in all processes. */
export class BackgroundRefresh {
  readonly #inFlight: CallsInFlight
  readonly #upstream: ClaimedCalls
  readonly #clock: Clock
  /** When the refresh of a key was last tried, in ticks. */
  readonly #tried = new Map<string, number>()

  constructor(inFlight: CallsInFlight, upstream: ClaimedCalls, clock: Clock) {
    this.#inFlight = inFlight
    this.#upstream = upstream
    this.#clock = clock
  }

  /** Has what a call asks for brought into the store, and returns what came of that; `elsewhere`: another call has brought it, or another process is at it. */
  async bring<T>(call: Call<T>, found: Found): Promise<Brought> {
    const claim = await this.#upstream.take({ call, previous: found.entry }, found.key)
    if (claim === 'busy') return { result: 'elsewhere' }
    const { shared, joined } = this.#callFor(call, found, claim)
    if (joined) this.#upstream.drop(claim)
    const { fetched, onEnd, finished } = await shared.landing
    if (!('answer' in fetched)) return fetched.result === 'elsewhere' ? { result: 'elsewhere' } : { result: 'failed', error: fetched.error }
    let ended: Ended | undefined
    onEnd((how) => {
      ended = how
    })
    await finished
    if (fetched.result !== 'answered') return { result: 'failed', error: new Error(`answered with status ${fetched.status}`) }
    return joined && ended && 'stored' in ended ? { result: 'elsewhere' } : { result: 'answered', ended }
  }

  #callFor<T>(call: Call<T>, found: Found, claim: Claim | undefined) {
    const terms = { ...call.terms, signal: undefined, urgency: { inBackground: true, nobodyWaits: true } }
    const { shared, joined } = this.#inFlight.callFor({ call, terms, deadline: undefined }, found, { reuse: 'shared', claim })
    if (!joined) void shared.settled.then(() => shared.dropIfUnasked()) // what is too large to be kept is for nobody
    return { shared, joined }
  }

  /** Begins a refresh, unless one is under way, here or in another process. Never rejects. */
  async begin<T>(call: Call<T>, found: Found, ahead?: ClaimAhead): Promise<void> {
    if (this.#inFlight.has(found.key) || !this.#mayTryAgain(found.key)) return
    const claim = await this.#upstream.take({ call, previous: found.entry }, found.key, ahead)
    if (claim === 'busy') return
    const { shared, joined } = this.#callFor(call, found, claim)
    if (joined) this.#upstream.drop(claim)
    await shared.ended
  }

  /** Whether a refresh was not tried a moment ago: what keeps it from happening is not asked about with every use of an answer. */
  #mayTryAgain(key: string): boolean {
    const now = this.#clock.ticks()
    if (now - (this.#tried.get(key) ?? Number.NEGATIVE_INFINITY) < refreshEveryMs) return false
    if (this.#tried.size >= mostTried) this.#tried.clear()
    this.#tried.set(key, now)
    return true
  }
}
