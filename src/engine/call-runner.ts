import { ageMs, type Decision, decide, decideOnFailure, type Facts, type Reuse } from '../core/decide/decide.js'
import { type StoredTimes, slid, timesOf } from '../core/decide/entry-times.js'
import type { Keeping, NotKept } from '../core/decide/keep.js'
import type { Outcome } from '../core/decide/outcome.js'
import { NothingStoredError, OfflineError, UpstreamTimeoutError } from '../core/errors.js'
import type { SearchVariance } from '../core/http/no-vary-search.js'
import { type Signpost, signpostHead, signpostOf } from '../core/http/variants.js'
import { costOfCall } from '../core/money/flat-price.js'
import { OncePerEpisode } from '../core/once-per-episode.js'
import type { Clock } from '../core/ports/clock.js'
import type { Entry, Store } from '../core/ports/store.js'
import type { Endpoint } from '../core/rules/endpoint.js'
import { freshFromUseMs } from '../core/rules/freshness.js'
import type { Answered, Ask, Fetched, Finished, Kept } from './ask.js'
import { Measurement } from './measurement.js'
import { SharedCall } from './shared-call.js'

/** What became of an upstream call's answer. */
type Ended = { readonly stored: Keeping } | { readonly notStored: NotKept } | { readonly broken: unknown }

/** An upstream call that can be answered. */
interface Landed<T> {
  readonly fetched: Fetched<T>
  readonly place: Place
  readonly finished: Promise<unknown>
  /** Calls back as soon as it is known what became of the answer, and before callers see its end. */
  onEnd(then: (ended: Ended) => void): void
}

/** What a look-up came to: the key that the request chooses, and what is stored under it. */
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

type Looked = Entry | Promise<Entry | undefined>

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

  run<T>(ask: Ask<T>, looked?: Looked): Promise<Answered<T>> {
    return this.track(this.#run(ask, looked))
  }

  /** Has a call waited for before the stash closes, so that none goes uncounted. */
  track<T>(call: Promise<T>): Promise<T> {
    const ended = call.then(noop, noop).finally(() => this.#running.delete(ended))
    this.#running.add(ended)
    return call
  }

  async #run<T>(ask: Ask<T>, looked: Looked | undefined): Promise<Answered<T>> {
    const began = this.#clock.ticks()
    if (ask.signal?.aborted) {
      this.#count(ask, 'letDown', began)
      throw ask.signal.reason
    }
    const { found, decision } = await this.consider(ask, looked)
    if (decision.do === 'serve') {
      if (decision.refresh) this.#refresh(ask, found)
      return this.#serve(ask, found.entry as Entry, decision, began)
    }
    if (decision.do === 'refuse') {
      this.#count(ask, 'letDown', began)
      const { provider, name } = ask.endpoint
      throw decision.reason === 'offline' ? new OfflineError(provider, name) : new NothingStoredError(provider, name)
    }
    return this.#forward(ask, found, decision, began)
  }

  /** Looks up and decides what is to be done about a call, and does nothing about it. */
  async consider<T>(ask: Ask<T>, looked?: Looked): Promise<Considered> {
    const lookUp = ask.endpoint.mode !== 'measure' && ask.endpoint.freshForMs !== undefined && !ask.bypass
    const found: Found = lookUp ? await this.lookUp(ask, looked) : { key: ask.key, entry: undefined, varied: false }
    const situation = this.#situation(ask, found.entry)
    const heldOffUntil = this.#heldOffUntil.get(ask.endpoint) ?? 0
    const { bypass, excerpt } = ask
    const decision = decide({ ...situation, bypass, excerpt, varied: found.varied, heldOffUntil })
    return { found, decision, onFailure: decideOnFailure(situation) }
  }

  /** Finds the entry that a request chooses: its key may point to where the query or the request's fields lead. */
  async lookUp<T>(ask: Ask<T>, looked?: Looked): Promise<Found> {
    let key = ask.key
    let first = await (looked ?? this.#store.get(key))
    if (!first && ask.search) {
      const signpost = signpostOf((await this.#store.get(ask.search.signpostKey))?.head ?? '')
      if (signpost && 'search' in signpost) {
        key = ask.search.key(signpost.search)
        first = await this.#store.get(key)
      }
    }
    const signpost = first && signpostOf(first.head)
    if (!signpost || !('vary' in signpost)) return { key, entry: first, varied: false }
    const variant = ask.variantKey(key, signpost.vary)
    return { key: variant, entry: await this.#store.get(variant), varied: true }
  }

  /** Has what is stored under a key and what follows it count as out of date, also what is on its way there. */
  async outdate(prefix: string): Promise<void> {
    for (const [key, call] of this.#inFlight) {
      if (key !== prefix && !key.startsWith(`${prefix} `)) continue
      call.outOfDate = true
      this.#inFlight.delete(key)
    }
    await this.#store.outdate(prefix, this.#clock.now())
  }

  /** Waits for the calls under way, and for upstream calls whose callers have gone. */
  async settled(): Promise<void> {
    while (this.#running.size > 0) await Promise.all(this.#running)
  }

  #situation(
    { endpoint, wishes, canServe }: Pick<Ask<unknown>, 'endpoint' | 'wishes' | 'canServe'>,
    entry: Entry | undefined,
  ): Omit<Facts, 'bypass' | 'excerpt' | 'varied' | 'heldOffUntil'> {
    const { mode, freshForMs, staleWhileRevalidateMs, staleIfErrorMs } = endpoint
    const rule = { mode, freshForMs, staleWhileRevalidateMs, staleIfErrorMs }
    return { ...rule, wishes, entry: entry && canServe(entry) ? entry : undefined, now: this.#clock.now() }
  }

  #serve<T>(ask: Ask<T>, entry: Entry, how: { how: 'hit' | 'stale' } & Pick<Outcome, 'reason' | 'fwd'>, began: number): Answered<T> {
    const answer = ask.revive(entry)
    const { endpoint } = ask
    const now = this.#clock.now()
    const times = how.reason === 'fresh' && endpoint.slidingMs !== undefined && ask.slides(entry) ? slidByUse(endpoint, entry, now) : entry
    if (times !== entry) void this.#store.retime(entry.key, timesOf(times))
    this.#count(ask, how.how, began)
    return { answer, outcome: storedOutcome(endpoint, times, now, how) }
  }

  /** Begins a refresh that nobody waits for, unless one is under way. */
  #refresh<T>(ask: Ask<T>, found: Found): void {
    const { call, joined } = this.#callFor({ ...ask, signal: undefined }, found, 'shared')
    if (!joined) void call.ended.then(() => call.dropIfUnasked())
  }

  async #forward<T>(ask: Ask<T>, found: Found, decision: Decision & { do: 'call' }, began: number): Promise<Answered<T>> {
    const { entry } = found
    const { call, joined } = this.#callFor(ask, found, decision.reuse)
    let landed: Landed<T>
    try {
      landed = await call.join(ask.signal)
    } catch (aborted) {
      this.#count(ask, 'letDown', began)
      throw aborted
    }
    const { fetched } = landed
    if (joined && !('error' in fetched)) {
      const mine = isFor(ask, landed.place, fetched)
      if (!mine || !ask.canJoin(fetched.answer)) {
        const { vary } = fetched
        const variant = !mine && vary && vary !== '*' ? ask.variantKey(landed.place.base, vary) : undefined
        const reuse = !mine && (variant === undefined || variant === found.key) ? 'none' : decision.reuse
        return this.#forward(ask, { ...found, key: variant ?? found.key }, { ...decision, reuse }, began)
      }
    }
    const how = joined ? 'collapsed' : 'forwarded'
    const upstreamStatus = 'status' in fetched ? fetched.status : undefined
    const paidFor = (ending: 'unmodified' | Fetched<T>['result']) =>
      joined ? { saved: ask.endpoint.price } : { cost: costOfCall(ask.endpoint, ending) }
    const facts = { provider: ask.endpoint.provider, endpoint: ask.endpoint.name, fwd: decision.fwd, upstreamStatus, ageMs: 0 }
    if (fetched.result === 'answered') {
      const outcome: Live<Outcome> = {
        ...{ ...facts, how, reason: decision.reason },
        ...paidFor(upstreamStatus === 304 ? 'unmodified' : 'answered'),
        ...(decision.reuse === 'none' ? { stored: false, notStored: 'not-reusable' } : foreseen(fetched.judged?.(landed.place.key))),
      }
      landed.onEnd((ended) => {
        this.#count(ask, 'broken' in ended ? 'letDown' : how, began)
        if (decision.reuse !== 'none' || 'broken' in ended) Object.assign(outcome, { freshUntil: undefined }, became(ended))
        if ('broken' in ended) Object.assign(outcome, paidFor('failed'))
      })
      return { answer: joined ? ask.copy(fetched.answer) : fetched.answer, outcome }
    }
    const fallBack = decideOnFailure(this.#situation(ask, entry))
    if (fallBack.do === 'serve') {
      const stale = this.#serve(ask, entry as Entry, { how: 'stale', reason: fallBack.reason, fwd: decision.fwd }, began)
      return { answer: stale.answer, outcome: { ...stale.outcome, upstreamStatus, ...paidFor(fetched.result) } }
    }
    this.#count(ask, 'letDown', began)
    if ('error' in fetched) throw fetched.error
    const outcome: Live<Outcome> = {
      ...facts,
      how,
      reason: fallBack.reason,
      ...paidFor(fetched.result),
      stored: false,
      notStored: 'status',
    }
    landed.onEnd((ended) => void Object.assign(outcome, became(ended)))
    return { answer: joined ? ask.copy(fetched.answer) : fetched.answer, outcome }
  }

  /** The upstream call for a key: the one in flight if that will do, else a new one, which later callers find in flight. */
  #callFor<T>(ask: Ask<T>, { key, entry }: Found, reuse: Reuse): { call: SharedCall<Landed<T>>; joined: boolean } {
    const inFlight = this.#inFlight.get(key) as SharedCall<Landed<T>> | undefined
    if (reuse === 'shared' && inFlight && !inFlight.abandoned) return { call: inFlight, joined: true }
    const call = new SharedCall<Landed<T>>((self, ending) => this.#callUpstream(ask, entry, reuse, self, ending))
    if (reuse !== 'none') {
      if (inFlight) inFlight.outOfDate = true
      this.#inFlight.set(key, call as SharedCall<Landed<unknown>>)
    }
    const ended = call.ended.finally(() => {
      if (this.#inFlight.get(key) === (call as SharedCall<never>)) this.#inFlight.delete(key)
    })
    void this.track(ended)
    return { call, joined: false }
  }

  /** Calls upstream, and is back as soon as the answer begins; what may be stored of it is stored once it is whole. */
  async #callUpstream<T>(
    ask: Ask<T>,
    previous: Entry | undefined,
    reuse: Reuse,
    call: SharedCall<Landed<T>>,
    ending: AbortController,
  ): Promise<Landed<T>> {
    const { endpoint, wishes } = ask
    const askedAt = this.#clock.now()
    const { provider, name, timeoutMs } = endpoint
    const cancelTimer = this.#clock.later(timeoutMs, () => ending.abort(new UpstreamTimeoutError(provider, name, timeoutMs)))
    const fetched = await untilAborted(
      ask.callUpstream(ending, reuse === 'none' || wishes.ask === 'whole' ? undefined : previous),
      ending.signal,
      (error): Fetched<T> => ({ result: 'failed', error }),
    )
    const tally = ask.line.at(this.#clock.now())
    tally.upAnswered += fetched.earlier ?? 0
    if ('error' in fetched) {
      cancelTimer()
      this.#failed(ask, 'failed', ending)
      return { fetched, place: placeOf(ask, {}), finished: Promise.resolve(), onEnd: noop }
    }
    const place = placeOf(ask, fetched)
    const standIn = decideOnFailure(this.#situation(ask, previous)).do === 'serve' // so wait for the end, in case it breaks off
    const callbacks: ((ended: Ended) => void)[] = []
    let end: Ended | undefined
    const finish = async (): Promise<void> => {
      const finished = await fetched.finish()
      cancelTimer()
      this.#upstreamEnded(ask, fetched, finished, ending)
      if ('kept' in finished) this.#measured(ask, place.key, askedAt, finished.kept)
      const kept = reuse !== 'none' && !(standIn && fetched.result !== 'answered')
      end = kept ? await this.#keep(ask, finished, place, previous, call) : notReused(finished)
      for (const callback of callbacks) callback(end)
      fetched.release()
    }
    const finished = finish()
    await (fetched.whole || standIn ? finished : Promise.race([finished, aFewTurns()]))
    const broken = end !== undefined && 'broken' in end && fetched.result === 'answered'
    return {
      fetched: broken && end && 'broken' in end ? { result: 'failed', error: end.broken } : fetched,
      place,
      finished,
      onEnd: (then) => (end ? then(end) : void callbacks.push(then)),
    }
  }

  /** Counts how an upstream call ended, and holds off or goes on accordingly. */
  #upstreamEnded<T>(ask: Ask<T>, { result, status }: Fetched<T> & { status?: number }, finished: Finished, ending: AbortController): void {
    if (result !== 'answered' || 'broken' in finished) {
      this.#failed(ask, result === 'refused' ? result : 'failed', ending)
      return
    }
    const tally = ask.line.at(this.#clock.now())
    tally.upAnswered++
    if (status === 304) tally.upUnmodified++
    this.#heldOffUntil.delete(ask.endpoint)
  }

  #failed(ask: Ask<unknown>, how: 'refused' | 'failed', ending: AbortController): void {
    const now = this.#clock.now()
    ask.line.at(now)[how === 'refused' ? 'upRefused' : 'upFailed']++
    const overdue = ending.signal.reason instanceof UpstreamTimeoutError
    if (overdue || !ending.signal.aborted) this.#heldOffUntil.set(ask.endpoint, now + ask.endpoint.holdOffMs)
  }

  #measured(ask: Ask<unknown>, key: string, askedAt: number, kept: Kept): void {
    const { mode, freshForMs } = ask.endpoint
    if (mode !== 'measure' || freshForMs === undefined || ask.bypass || ask.excerpt) return
    const keeping = this.#judge(ask.endpoint, key, kept)
    const would = typeof keeping === 'string' ? undefined : { freshUntil: keeping.freshUntil, body: kept.form(keeping).body }
    this.#measurement.answered(key, askedAt, would, ask.line.at(this.#clock.now()))
  }

  /** Stores a whole answer, if that is allowed. */
  async #keep<T>(
    ask: Ask<T>,
    finished: Finished,
    { base, key, signposts }: Place,
    previous: Entry | undefined,
    call: SharedCall<Landed<T>>,
  ): Promise<Ended> {
    if ('broken' in finished) return finished
    if ('notKept' in finished) return { notStored: finished.notKept }
    const { endpoint } = ask
    const keeping = this.#judge(endpoint, key, finished.kept)
    if (typeof keeping === 'string') return { notStored: keeping }
    const { head, body, memo } = finished.kept.form(keeping)
    if (previous?.key === key) ask.line.at(this.#clock.now())[sameBytes(previous.body, body) ? 'unchanged' : 'changed']++
    if (call.outOfDate) return { notStored: 'out-of-date' }
    const common = { provider: endpoint.provider, endpoint: endpoint.name, ...timesOf(keeping) }
    for (const signpost of signposts) {
      const at = 'vary' in signpost ? base : (ask.search?.signpostKey as string)
      await this.#store.put({ ...common, key: at, head: signpostHead(signpost), body: new Uint8Array() })
    }
    await this.#store.put({ ...common, key, head, body, memo })
    return { stored: keeping }
  }

  /** Whether and how an answer is kept; where a function of the configuration fails it is not, and that is said once. */
  #judge({ provider, name }: Endpoint, key: string, kept: Kept): Keeping | NotKept {
    try {
      const keeping = kept.judge(key)
      this.#freshness.fine()
      return keeping
    } catch (cause) {
      this.#freshness.trouble(`answers of ${provider}.${name} are not stored, for nothing says how long they are fresh`, cause)
      return 'no-freshness'
    }
  }

  #count(ask: Ask<unknown>, how: 'hit' | 'stale' | 'collapsed' | 'forwarded' | 'letDown', began: number): void {
    const tally = ask.line.at(this.#clock.now())
    tally[how]++
    tally.latency.add(this.#clock.ticks() - began)
  }
}

/** What is filled in as it becomes known. */
type Live<T> = { -readonly [Name in keyof T]: T[Name] }

/** Where an answer belongs, and which signposts lead there from the asked key. */
interface Place {
  readonly base: string
  readonly key: string
  readonly signposts: readonly Signpost[]
}

function placeOf(ask: Ask<unknown>, { vary = [], search }: { vary?: readonly string[] | '*'; search?: SearchVariance | undefined }): Place {
  const base = search && ask.search ? ask.search.key(search) : ask.key
  const varies = vary !== '*' && vary.length > 0
  return {
    base,
    key: varies ? ask.variantKey(base, vary) : base,
    signposts: [...(search && ask.search ? [{ search }] : []), ...(varies ? [{ vary }] : [])],
  }
}

/** Whether the answer of a call that another caller began is meant for this caller too (RFC 9111 section 4.1). */
function isFor(ask: Ask<unknown>, { base, key }: Place, { vary }: { vary?: readonly string[] | '*' }): boolean {
  if (vary === undefined) return true
  return vary !== '*' && (vary.length === 0 || ask.variantKey(base, vary) === key)
}

function slidByUse({ freshness, slidingMs = 0 }: Endpoint, entry: Entry, now: number): Entry {
  return slid(entry, freshFromUseMs(freshness, entry.key) ?? 0, slidingMs, now)
}

/** The outcome of a call answered from store. */
export function storedOutcome(
  endpoint: Endpoint,
  times: StoredTimes,
  now: number,
  { how, reason, fwd }: { how: 'hit' | 'stale' } & Pick<Outcome, 'reason' | 'fwd'>,
): Outcome {
  const { provider, name, price } = endpoint
  return { provider, endpoint: name, how, reason, fwd, ageMs: ageMs(times, now), freshUntil: times.freshUntil, saved: price }
}

/** What an outcome says of storing, as far as the head of an answer foretells it, and once its end is known. */
function foreseen(judged: Keeping | NotKept | undefined): Partial<Outcome> {
  if (judged === undefined) return {}
  return typeof judged === 'string' ? { stored: false, notStored: judged } : { stored: true, freshUntil: judged.freshUntil }
}

function became(ended: Ended): Partial<Outcome> {
  if ('stored' in ended) return { stored: true, notStored: undefined, freshUntil: ended.stored.freshUntil }
  return { stored: false, notStored: 'broken' in ended ? 'broke-off' : ended.notStored, freshUntil: undefined }
}

function notReused(finished: Finished): Ended {
  return 'broken' in finished ? finished : { notStored: 'not-reusable' }
}

function untilAborted<T>(work: Promise<T>, signal: AbortSignal, instead: (reason: unknown) => T): Promise<T> {
  return new Promise((resolve, reject) => {
    signal.addEventListener('abort', () => resolve(instead(signal.reason)), { once: true })
    work.then(resolve, reject)
  })
}

/** Long enough for an answer that is there already to be read and stored, and no time at all by the clock. */
async function aFewTurns(): Promise<void> {
  for (let turn = 0; turn < 100; turn++) await undefined
}

function noop(): void {}

function sameBytes(one: Uint8Array, other: Uint8Array): boolean {
  return one.byteLength === other.byteLength && one.every((byte, i) => byte === other[i])
}
