import { type Decision, decide, decideOnFailure, type EntryTimes } from '../core/decide/decide.js'
import type { Outcome } from '../core/decide/outcome.js'
import { OfflineError, UpstreamTimeoutError } from '../core/errors.js'
import { variantIndexHead, variedBy } from '../core/http/vary.js'
import { costOfCall } from '../core/money/flat-price.js'
import { OncePerEpisode } from '../core/once-per-episode.js'
import type { Clock } from '../core/ports/clock.js'
import type { Entry, Store } from '../core/ports/store.js'
import type { Endpoint } from '../core/rules/endpoint.js'
import { freshUntilOf } from '../core/rules/freshness.js'
import type { Answered, Ask, Fetched, Kept } from './ask.js'
import { Measurement } from './measurement.js'
import { SharedCall } from './shared-call.js'

/** The end of an upstream call, with what was stored of it. */
interface Landed<T> {
  readonly fetched: Fetched<T>
  readonly entry: Entry | undefined
  /** The key that the answer is for: the asked one, or that of a variant. */
  readonly key: string
}

/** What a look-up came to: the key that the request's fields choose, and what is stored under it. */
interface Found {
  readonly key: string
  readonly entry: Entry | undefined
  readonly varied: boolean
}

interface Considered {
  readonly found: Found
  readonly decision: Decision
  readonly onFailure: ReturnType<typeof decideOnFailure>
}

/** Runs calls: looks up, decides, calls upstream once for all who ask, stores and records. */
export class CallRunner {
  readonly #store: Store
  readonly #clock: Clock
  readonly #inFlight = new Map<string, SharedCall<Landed<unknown>>>()
  readonly #heldOffUntil = new Map<Endpoint, number>()
  readonly #running = new Set<Promise<unknown>>()
  readonly #measurement = new Measurement()
  readonly #freshness: OncePerEpisode

  constructor(store: Store, clock: Clock, warn: (message: string) => void) {
    this.#freshness = new OncePerEpisode(warn)
    this.#store = store
    this.#clock = clock
  }

  run<T>(ask: Ask<T>, looked?: Entry | Promise<Entry | undefined>): Promise<Answered<T>> {
    return this.track(this.#run(ask, looked))
  }

  /** Has a call waited for before the stash closes, so that none goes uncounted. */
  track<T>(call: Promise<T>): Promise<T> {
    const ended = call.then(noop, noop).finally(() => this.#running.delete(ended))
    this.#running.add(ended)
    return call
  }

  async #run<T>(ask: Ask<T>, looked: Entry | Promise<Entry | undefined> | undefined): Promise<Answered<T>> {
    const began = this.#clock.ticks()
    if (ask.signal?.aborted) {
      this.#count(ask, 'letDown', began)
      throw ask.signal.reason
    }
    const { found, decision } = await this.consider(ask, looked)
    if (decision.do === 'serve') return this.#serve(ask, found.entry as Entry, decision, began)
    if (decision.do === 'refuse') {
      this.#count(ask, 'letDown', began)
      throw new OfflineError(ask.endpoint.provider, ask.endpoint.name)
    }
    return this.#forward(ask, found, decision, began)
  }

  /** Looks up and decides what is to be done about a call, and does nothing about it. */
  async consider<T>(ask: Ask<T>, looked?: Entry | Promise<Entry | undefined>): Promise<Considered> {
    const lookUp = ask.endpoint.mode !== 'measure' && ask.endpoint.freshForMs !== undefined && !ask.special
    const found: Found = lookUp ? await this.#lookUp(ask, looked) : { key: ask.key, entry: undefined, varied: false }
    const situation = this.#situation(ask.endpoint, found.entry)
    const heldOffUntil = this.#heldOffUntil.get(ask.endpoint) ?? 0
    const decision = decide({ ...situation, special: ask.special, varied: found.varied, heldOffUntil })
    return { found, decision, onFailure: decideOnFailure(situation) }
  }

  /** Waits for the calls under way, and for upstream calls whose callers have gone. */
  async settled(): Promise<void> {
    while (this.#running.size > 0) await Promise.all(this.#running)
  }

  async #lookUp<T>(ask: Ask<T>, looked: Entry | Promise<Entry | undefined> | undefined): Promise<Found> {
    const first = await (looked ?? this.#store.get(ask.key))
    const fields = first && variedBy(first.head)
    if (!fields) return { key: ask.key, entry: first, varied: false }
    const key = ask.variantKey(fields)
    return { key, entry: await this.#store.get(key), varied: true }
  }

  #situation({ mode, freshForMs, staleIfErrorMs }: Endpoint, entry: Entry | undefined): Parameters<typeof decideOnFailure>[0] {
    return { mode, freshForMs, staleIfErrorMs, entry, now: this.#clock.now() }
  }

  #serve<T>(ask: Ask<T>, entry: Entry, how: { how: 'hit' | 'stale' } & Pick<Outcome, 'reason' | 'fwd'>, began: number): Answered<T> {
    const answer = ask.revive(entry)
    this.#count(ask, how.how, began)
    return { answer, outcome: storedOutcome(ask.endpoint, entry, this.#clock.now(), how) }
  }

  async #forward<T>(ask: Ask<T>, found: Found, decision: Decision & { do: 'call' }, began: number): Promise<Answered<T>> {
    const { entry } = found
    const { call, joined } = this.#sharedCall(ask, found, decision.reuse)
    let landed: Landed<T>
    try {
      landed = await call.join(ask.signal)
    } catch (aborted) {
      this.#count(ask, 'letDown', began)
      throw aborted
    }
    const { fetched } = landed
    if (joined && !isFor(ask, landed)) {
      const variant = 'vary' in fetched && fetched.vary && fetched.vary !== '*' ? ask.variantKey(fetched.vary) : undefined
      const mayShare = variant !== undefined && variant !== found.key
      return this.#forward(ask, { ...found, key: variant ?? found.key }, { ...decision, reuse: mayShare }, began)
    }
    const how = joined ? 'collapsed' : 'forwarded'
    const upstreamStatus = 'status' in fetched ? fetched.status : undefined
    const ending = fetched.result === 'answered' && upstreamStatus === 304 ? 'unmodified' : fetched.result
    const paid = joined ? { saved: ask.endpoint.price } : { cost: costOfCall(ask.endpoint, ending) }
    const facts = { provider: ask.endpoint.provider, endpoint: ask.endpoint.name, fwd: decision.fwd, upstreamStatus, ageMs: 0, ...paid }
    if (fetched.result === 'answered') {
      this.#count(ask, how, began)
      const stored =
        typeof fetched.keep === 'string'
          ? { stored: false, notStored: fetched.keep }
          : { stored: landed.entry !== undefined, freshUntil: landed.entry?.freshUntil }
      const outcome: Outcome = { ...facts, how, reason: decision.reason, ...stored }
      return { answer: joined ? ask.copy(fetched.answer) : fetched.answer, outcome }
    }
    const fallBack = decideOnFailure(this.#situation(ask.endpoint, entry))
    if (fallBack.do === 'serve') {
      const stale = this.#serve(ask, entry as Entry, { how: 'stale', reason: fallBack.reason, fwd: decision.fwd }, began)
      return { answer: stale.answer, outcome: { ...stale.outcome, upstreamStatus, ...paid } }
    }
    this.#count(ask, 'letDown', began)
    if ('error' in fetched) throw fetched.error
    const outcome: Outcome = { ...facts, how, reason: fallBack.reason, stored: false, notStored: 'status' }
    return { answer: joined ? ask.copy(fetched.answer) : fetched.answer, outcome }
  }

  /** The upstream call for a key: the one in flight if there is one, else a new one. */
  #sharedCall<T>(ask: Ask<T>, { key, entry }: Found, share: boolean): { call: SharedCall<Landed<T>>; joined: boolean } {
    const inFlight = share ? (this.#inFlight.get(key) as SharedCall<Landed<T>> | undefined) : undefined
    if (inFlight && !inFlight.abandoned) return { call: inFlight, joined: true }
    const call = new SharedCall<Landed<T>>((ending) => this.#callUpstream(ask, entry, share, ending))
    if (share) this.#inFlight.set(key, call as SharedCall<Landed<unknown>>)
    const ended = call.ended.finally(() => {
      if (this.#inFlight.get(key) === (call as SharedCall<unknown>)) this.#inFlight.delete(key)
    })
    void this.track(ended)
    return { call, joined: false }
  }

  async #callUpstream<T>(ask: Ask<T>, previous: Entry | undefined, share: boolean, ending: AbortController): Promise<Landed<T>> {
    const { endpoint } = ask
    const askedAt = this.#clock.now()
    const fetched = await this.#inTime(ask, share ? previous : undefined, ending)
    const now = this.#clock.now()
    const tally = ask.line.at(now)
    tally.upAnswered += fetched.earlier ?? 0
    const vary = ('vary' in fetched && fetched.vary) || []
    const key = vary === '*' || vary.length === 0 ? ask.key : ask.variantKey(vary)
    if (fetched.result === 'answered') {
      tally.upAnswered++
      if (fetched.status === 304) tally.upUnmodified++
      this.#heldOffUntil.delete(endpoint)
      const { mode, freshForMs } = endpoint
      if (mode === 'measure' && freshForMs !== undefined && !ask.special) {
        const would = typeof fetched.keep === 'string' ? undefined : this.#entryOf(endpoint, key, fetched.keep(), now)
        this.#measurement.answered(key, askedAt, would, tally)
      }
      if (!share || typeof fetched.keep === 'string') return { fetched, entry: undefined, key }
      const entry = this.#entryOf(endpoint, key, fetched.keep(), now)
      if (!entry) return { fetched, entry: undefined, key }
      if (previous?.key === key) tally[sameBytes(previous.body, entry.body) ? 'unchanged' : 'changed']++
      if (key !== ask.key) await this.#store.put(variantIndexOf(entry, ask.key, vary as readonly string[]))
      await this.#store.put(entry)
      return { fetched, entry, key }
    }
    tally[fetched.result === 'refused' ? 'upRefused' : 'upFailed']++
    const overdue = ending.signal.reason instanceof UpstreamTimeoutError
    if (overdue || !ending.signal.aborted) this.#heldOffUntil.set(endpoint, now + endpoint.holdOffMs)
    return { fetched, entry: undefined, key }
  }

  /** The entry of an answer; undefined where nothing says until when it is fresh. */
  #entryOf(endpoint: Endpoint, key: string, { head, body, memo, facts }: Kept, now: number): Entry | undefined {
    const { provider, name, freshness, staleIfErrorMs } = endpoint
    if (!freshness) return undefined
    try {
      const freshUntil = freshUntilOf(freshness, key, facts, now)
      this.#freshness.fine()
      return { key, provider, endpoint: name, head, body, storedAt: now, freshUntil, usableUntil: freshUntil + staleIfErrorMs, memo }
    } catch (cause) {
      this.#freshness.trouble(`answers of ${provider}.${name} are not stored, for nothing says how long they are fresh`, cause)
      return undefined
    }
  }

  /** Calls upstream and gives up when the provider's time is over or nobody waits any more. */
  async #inTime<T>(ask: Ask<T>, stale: Entry | undefined, ending: AbortController): Promise<Fetched<T>> {
    const { provider, name, timeoutMs } = ask.endpoint
    const { signal } = ending
    const cancelTimer = this.#clock.later(timeoutMs, () => ending.abort(new UpstreamTimeoutError(provider, name, timeoutMs)))
    const fetched = await new Promise<Fetched<T>>((resolve) => {
      signal.addEventListener('abort', () => resolve({ result: 'failed', error: signal.reason }), { once: true })
      ask.callUpstream(signal, stale).then(resolve)
    })
    cancelTimer()
    return fetched
  }

  #count(ask: Ask<unknown>, how: 'hit' | 'stale' | 'collapsed' | 'forwarded' | 'letDown', began: number): void {
    const tally = ask.line.at(this.#clock.now())
    tally[how]++
    tally.latency.add(this.#clock.ticks() - began)
  }
}

/** The outcome of a call answered from store. */
export function storedOutcome(
  endpoint: Endpoint,
  entry: EntryTimes,
  now: number,
  how: { how: 'hit' | 'stale' } & Pick<Outcome, 'reason' | 'fwd'>,
): Outcome {
  return {
    provider: endpoint.provider,
    endpoint: endpoint.name,
    how: how.how,
    reason: how.reason,
    fwd: how.fwd,
    ageMs: Math.max(0, now - entry.storedAt),
    freshUntil: entry.freshUntil,
    saved: endpoint.price,
  }
}

function noop(): void {}

/** Whether the answer of a call that another caller began is meant for this caller too (RFC 9111 section 4.1). */
function isFor(ask: Ask<unknown>, { fetched, key }: Landed<unknown>): boolean {
  if (!('vary' in fetched) || fetched.vary === undefined) return true
  return fetched.vary !== '*' && (fetched.vary.length === 0 || ask.variantKey(fetched.vary) === key)
}

/** What stands under the asked key where its answers vary. */
function variantIndexOf(entry: Entry, key: string, vary: readonly string[]): Entry {
  const { provider, endpoint, storedAt, freshUntil, usableUntil } = entry
  return { key, provider, endpoint, head: variantIndexHead(vary), body: new Uint8Array(), storedAt, freshUntil, usableUntil }
}

function sameBytes(one: Uint8Array, other: Uint8Array): boolean {
  return one.byteLength === other.byteLength && one.every((byte, i) => byte === other[i])
}
