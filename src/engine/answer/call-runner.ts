import { type Decision, decide, decideOnFailure, type Reuse, type WithheldFor } from '../../core/decide/decide.js'
import { slid, timesOf } from '../../core/decide/entry-times.js'
import type { Outcome } from '../../core/decide/outcome.js'
import type { Reason } from '../../core/decide/reasons.js'
import type { Endpoint } from '../../core/endpoints/endpoint.js'
import { CallOverdueError, NothingStoredError, OfflineError } from '../../core/errors/call-errors.js'
import { signpostOf } from '../../core/http/variants.js'
import { costOfCall, type Ending, endingOf } from '../../core/money/billed-calls.js'
import type { Clock } from '../../core/ports/clock.js'
import type { Entry } from '../../core/ports/entry-store.js'
import type { Store } from '../../core/ports/store.js'
import { freshFromUseMs } from '../../core/rules/freshness.js'
import type { Answered, Ask } from '../call/call.js'
import { situationOf } from '../call/situation.js'
import type { Events } from '../events.js'
import type { Gate } from '../gate/gate.js'
import type { Place } from '../upstream/entry-writer.js'
import type { Landed } from '../upstream/upstream-attempt.js'
import type { UpstreamCalls } from '../upstream/upstream-calls.js'
import { became, expectedStorage, type Live, storedOutcome } from './outcomes.js'
import { leaseRefresh } from './refresh-lease.js'
import { RunningCalls } from './running-calls.js'
import { SharedCall } from './shared-call.js'

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

export interface CallRunnerParts {
  readonly store: Store
  readonly clock: Clock
  readonly events: Events
  readonly gate: Gate
  readonly upstream: UpstreamCalls
}

/** How often the refresh of a key is tried, milliseconds, and of how many keys that is remembered. */
const refreshEveryMs = 250
const mostTried = 10_000

/** Runs calls: looks up, decides, calls upstream once for all who ask, and gives each its answer. */
export class CallRunner {
  readonly #parts: CallRunnerParts
  readonly #inFlight = new Map<string, SharedCall<Landed<unknown>>>()
  readonly #running: RunningCalls
  /** When the refresh of a key was last tried, in ticks. */
  readonly #refreshTried = new Map<string, number>()
  readonly #failures = new WeakMap<object, Outcome>()

  constructor(parts: CallRunnerParts) {
    this.#parts = parts
    this.#running = new RunningCalls(parts.clock)
  }

  run<T>(ask: Ask<T>, looked?: Looked): Promise<Answered<T>> {
    return this.track(this.#run(ask, looked))
  }

  /** Has a call waited for before the stash closes, so that none goes uncounted. */
  track<T>(call: Promise<T>): Promise<T> {
    return this.#running.track(call)
  }

  /** How a call was answered that ended in an error. */
  outcomeOf(error: unknown): Outcome | undefined {
    return typeof error === 'object' && error !== null ? this.#failures.get(error) : undefined
  }

  async #run<T>(ask: Ask<T>, looked: Looked | undefined): Promise<Answered<T>> {
    const began = this.#parts.clock.ticks()
    if (ask.signal?.aborted) {
      this.#count(ask, 'errored', began)
      throw ask.signal.reason
    }
    const { found, decision } = await this.consider(ask, looked)
    if (decision.do === 'serve') {
      if (decision.refresh) void this.track(this.#refresh(ask, found))
      return this.#serve(ask, found.entry as Entry, decision, began)
    }
    if (decision.do === 'refuse') {
      const { provider, name } = ask.endpoint
      const error = decision.reason === 'offline' ? new OfflineError(provider, name) : new NothingStoredError(provider, name)
      throw this.#failed(ask, error, { reason: decision.reason }, began)
    }
    const deadline = ask.withinMs === undefined ? undefined : began + ask.withinMs
    return this.#forward({ ...ask, deadline }, found, decision, began)
  }

  /** Looks up and decides what is to be done about a call, and does nothing about it. */
  async consider<T>(ask: Ask<T>, looked?: Looked): Promise<Considered> {
    const lookUp = ask.endpoint.mode !== 'measure' && ask.endpoint.freshForMs !== undefined && !ask.bypass
    const found: Found = lookUp ? await this.lookUp(ask, looked) : { key: ask.key, entry: undefined, varied: false }
    const situation = situationOf(ask, found.entry, this.#parts.clock.now())
    const { bypass, excerpt } = ask
    const { gate } = this.#parts
    const withheld = { heldOff: gate.heldOff(ask.endpoint), budget: gate.budgetLevel(ask.endpoint) }
    const decision = decide({ ...situation, bypass, excerpt, varied: found.varied, ...withheld })
    return { found, decision, onFailure: decideOnFailure(situation) }
  }

  /** Finds the entry that a request chooses: its key may point to where the query or the request's fields lead. */
  async lookUp<T>(ask: Ask<T>, looked?: Looked): Promise<Found> {
    const { store } = this.#parts
    let key = ask.key
    let first = await (looked ?? store.entries.get(key))
    if (!first && ask.search) {
      const signpost = this.#signpost(await store.entries.get(ask.search.signpostKey))
      if (signpost && 'search' in signpost) {
        key = ask.search.key(signpost.search)
        first = await store.entries.get(key)
      }
    }
    const signpost = this.#signpost(first)
    if (!signpost || !('vary' in signpost)) return { key, entry: this.#readable(ask, first), varied: false }
    const variant = ask.variantKey(key, signpost.vary)
    return { key: variant, entry: this.#readable(ask, await store.entries.get(variant)), varied: true }
  }

  /** Has what is stored under a key and what follows it count as out of date, also what is on its way there. */
  async invalidate(prefix: string): Promise<void> {
    for (const [key, call] of this.#inFlight) {
      if (key !== prefix && !key.startsWith(`${prefix} `)) continue
      call.outOfDate = true
      this.#inFlight.delete(key)
    }
    await this.#parts.store.entries.invalidate({ under: prefix }, this.#parts.clock.now())
  }

  /** Waits for the calls under way, and for upstream calls whose callers have gone; gives up those that take longer than `limitMs`. */
  settled(limitMs: number, reason: (endpoint: Endpoint) => unknown): Promise<void> {
    return this.#running.settled(limitMs, reason)
  }

  /** Drops an entry that nobody can read. */
  corrupt({ endpoint, line }: Pick<Ask<unknown>, 'endpoint' | 'line'>, key: string, error: unknown): void {
    line.at(this.#parts.clock.now()).corrupt++
    this.#parts.events.tell('corrupt-entry', { provider: endpoint.provider, endpoint: endpoint.name, key, error })
    void this.#parts.store.entries.remove({ key })
  }

  #signpost(entry: Entry | undefined): ReturnType<typeof signpostOf> {
    return entry && signpostOf(entry.head)
  }

  /** An entry that can be read, else none: what cannot be is dropped, and counts as absent. */
  #readable<T>(ask: Ask<T>, entry: Entry | undefined): Entry | undefined {
    if (entry === undefined) return undefined
    try {
      ask.revive(entry)
      return entry
    } catch (error) {
      this.corrupt(ask, entry.key, error)
      return undefined
    }
  }

  #serve<T>(ask: Ask<T>, entry: Entry, how: { how: 'hit' | 'stale' } & Pick<Outcome, 'reason' | 'fwd'>, began: number): Answered<T> {
    const answer = ask.revive(entry)
    const { endpoint } = ask
    const now = this.#parts.clock.now()
    const times = how.reason === 'fresh' && endpoint.slidingMs !== undefined && ask.slides(entry) ? slidByUse(endpoint, entry, now) : entry
    if (times !== entry) void this.#parts.store.entries.updateTimes(entry.key, timesOf(times))
    const outcome = storedOutcome(endpoint, times, now, how)
    ask.line.at(now).age.add(outcome.ageMs)
    if (how.how === 'stale') {
      const tally = ask.line.at(now)
      tally.oldestStaleMs = Math.max(tally.oldestStaleMs, outcome.ageMs)
      this.#parts.events.tell('stale', { provider: endpoint.provider, endpoint: endpoint.name, reason: how.reason, ageMs: outcome.ageMs })
    }
    ask.line.at(now).addUnits('asked', entry.units)
    this.#count(ask, how.how, began, outcome.reason)
    return { answer, outcome }
  }

  /** Begins a refresh that nobody waits for, unless one is under way, here or in another process. */
  async #refresh<T>(ask: Ask<T>, found: Found): Promise<void> {
    if (this.#inFlight.has(found.key) || !this.#mayTryAgain(found.key)) return
    const lease = await leaseRefresh(this.#parts, found.key, ask.endpoint)
    if (!lease) return
    const alone = { ...ask, signal: undefined, urgency: { inBackground: true, nobodyWaits: true } }
    const { call, joined } = this.#callFor(alone, found, 'shared')
    if (!joined) void call.ended.then(() => call.dropIfUnasked())
    await call.ended
    await lease.release()
  }

  /** Whether a refresh was not tried a moment ago: what keeps it from happening is not asked about with every use of an answer. */
  #mayTryAgain(key: string): boolean {
    const now = this.#parts.clock.ticks()
    if (now - (this.#refreshTried.get(key) ?? Number.NEGATIVE_INFINITY) < refreshEveryMs) return false
    if (this.#refreshTried.size >= mostTried) this.#refreshTried.clear()
    this.#refreshTried.set(key, now)
    return true
  }

  async #forward<T>(ask: Ask<T>, found: Found, decision: Decision & { do: 'call' }, began: number): Promise<Answered<T>> {
    const { call, joined } = this.#callFor(ask, found, decision.reuse)
    const leaving = this.#leaving(ask)
    let landed: Landed<T>
    try {
      landed = await call.join(leaving.signal)
    } catch (aborted) {
      if (aborted instanceof CallOverdueError) return this.#failOver(ask, found, decision, { error: aborted, failure: 'overdue' }, began)
      throw this.#failed(ask, aborted, { fwd: decision.fwd, reason: decision.reason }, began)
    } finally {
      leaving.over()
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
    const paidFor = (ending: Ending) => (joined ? { saved: ask.endpoint.price } : { cost: costOfCall(ask.endpoint, ending) })
    if (fetched.result === 'withheld') {
      return this.#failOver(ask, found, decision, { error: fetched.error, failure: fetched.failure }, began)
    }
    const upstreamStatus = 'status' in fetched ? fetched.status : undefined
    const attempts = landed.attempts > 1 ? { attempts: landed.attempts } : {}
    const facts = {
      fwd: decision.fwd,
      ...(upstreamStatus !== undefined && { upstreamStatus }),
      ...attempts,
      ...paidFor(endingOf(fetched.result, upstreamStatus)),
    }
    if (fetched.result !== 'answered') {
      return this.#failOver(ask, found, decision, { ...('error' in fetched && { error: fetched.error }), facts, landed, joined }, began)
    }
    const how = joined ? 'collapsed' : 'forwarded'
    const outcome: Live<Outcome> = {
      ...{ provider: ask.endpoint.provider, endpoint: ask.endpoint.name, how, reason: decision.reason, ageMs: 0 },
      ...facts,
      ...(decision.reuse === 'none' ? { stored: false, notStored: 'not-reusable' } : expectedStorage(fetched.judged?.(landed.place.key))),
    }
    landed.onEnd((ended, units) => {
      ask.line.at(this.#parts.clock.now()).addUnits('asked', units)
      const failed = 'broken' in ended || 'amiss' in ended
      this.#count(ask, failed ? 'errored' : how, began, outcome.reason)
      if (decision.reuse !== 'none' || failed) Object.assign(outcome, { freshUntil: undefined }, became(ended))
      if (failed) Object.assign(outcome, paidFor(endingOf('failed', upstreamStatus)))
    })
    return { answer: joined ? ask.copy(fetched.answer) : fetched.answer, outcome }
  }

  /** What a caller gets whose upstream call failed or was not made: an older answer, the default, else what went wrong. */
  #failOver<T>(ask: Ask<T>, { entry }: Found, { fwd }: Decision & { do: 'call' }, trouble: Trouble<T>, began: number): Answered<T> {
    const { endpoint } = ask
    const { failure, facts = { fwd }, landed, joined = false } = trouble
    const refuses = failure === 'limit-reached' && ask.atLimit === 'refuse'
    const situation = situationOf(ask, entry, this.#parts.clock.now())
    const { do: what, reason } = refuses
      ? { do: 'give-up' as const, reason: 'no-older-answer' as const }
      : decideOnFailure({ ...situation, failure })
    if (what === 'serve') {
      const stale = this.#serve(ask, entry as Entry, { how: 'stale', reason, fwd }, began)
      return { answer: stale.answer, outcome: { ...stale.outcome, ...facts } }
    }
    const common = { provider: endpoint.provider, endpoint: endpoint.name, reason, ageMs: 0, ...facts }
    if (what === 'fallback' && ask.fallback) {
      this.#count(ask, 'fallback', began, reason)
      return { answer: ask.fallback(), outcome: { ...common, how: 'fallback' } }
    }
    if ('error' in trouble || !landed || 'error' in landed.fetched) throw this.#failed(ask, trouble.error, { ...facts, reason }, began)
    this.#count(ask, 'errored', began, reason)
    const { answer } = landed.fetched
    const outcome: Live<Outcome> = { ...common, how: joined ? 'collapsed' : 'forwarded', stored: false, notStored: 'status' }
    landed.onEnd((ended) => void Object.assign(outcome, became(ended)))
    return { answer: joined ? ask.copy(answer) : answer, outcome }
  }

  /** When a caller has to leave: when its signal aborts, or when its time is over. */
  #leaving(ask: Ask<unknown>): { readonly signal: AbortSignal | undefined; over(): void } {
    const { deadline, signal, endpoint, withinMs = 0 } = ask
    if (deadline === undefined) return { signal, over: noop }
    const overdue = new AbortController()
    const error = () => new CallOverdueError(endpoint.provider, endpoint.name, withinMs)
    const over = this.#parts.clock.later(Math.max(0, deadline - this.#parts.clock.ticks()), () => overdue.abort(error()), true)
    return { signal: signal ? AbortSignal.any([signal, overdue.signal]) : overdue.signal, over }
  }

  /** The upstream call for a key: the one in flight if that will do, else a new one, which later callers find in flight. */
  #callFor<T>(ask: Ask<T>, { key, entry }: Found, reuse: Reuse): { call: SharedCall<Landed<T>>; joined: boolean } {
    const inFlight = this.#inFlight.get(key) as SharedCall<Landed<T>> | undefined
    if (reuse === 'shared' && inFlight && !inFlight.abandoned) {
      if (!ask.urgency.inBackground) inFlight.hurry()
      return { call: inFlight, joined: true }
    }
    const { upstream } = this.#parts
    const call = new SharedCall<Landed<T>>(
      (self, ending) => upstream.make({ ask, previous: entry, reusable: reuse !== 'none', call: self, ending }),
      () => {
        ask.urgency.inBackground = false
      },
    )
    if (reuse !== 'none') {
      if (inFlight) inFlight.outOfDate = true
      this.#inFlight.set(key, call as SharedCall<Landed<unknown>>)
    }
    const over = this.#running.begun(call, ask.endpoint)
    const ended = call.ended.finally(() => {
      over()
      if (this.#inFlight.get(key) === (call as SharedCall<never>)) this.#inFlight.delete(key)
    })
    void this.track(ended)
    return { call, joined: false }
  }

  /** Counts a call that ends in an error, and remembers how, for whoever catches it. */
  #failed(ask: Ask<unknown>, error: unknown, facts: Partial<Outcome> & { readonly reason: Reason }, began: number): unknown {
    const { provider, name } = ask.endpoint
    const outcome: Outcome = { provider, endpoint: name, how: 'failed', ageMs: 0, ...facts }
    if (typeof error === 'object' && error !== null) this.#failures.set(error, outcome)
    this.#count(ask, 'errored', began, facts.reason, error)
    return error
  }

  #count(ask: Ask<unknown>, how: Counted, began: number, reason?: Reason, error?: unknown): void {
    const { clock, events } = this.#parts
    const tally = ask.line.at(clock.now())
    const ms = clock.ticks() - began
    tally[how]++
    tally.latency.add(ms)
    if (how === 'hit' || how === 'stale' || how === 'collapsed') tally.avoidedMicros += Math.round(ms * 1000)
    if (!events.callsHeard) return
    const { provider, name } = ask.endpoint
    events.tell('call', {
      ...{ provider, endpoint: name, mode: ask.endpoint.mode, key: ask.key, how: how === 'errored' ? 'failed' : how, ms },
      ...(reason && { reason }),
      ...(error !== undefined && { error }),
    })
  }
}

type Counted = 'hit' | 'stale' | 'collapsed' | 'forwarded' | 'fallback' | 'errored'

/** What went wrong with the upstream call of a caller. */
interface Trouble<T> {
  readonly error?: unknown
  /** If it is not the upstream that failed. */
  readonly failure?: WithheldFor | undefined
  readonly facts?: Partial<Outcome>
  readonly landed?: Landed<T>
  readonly joined?: boolean
}

/** Whether the answer of a call that another caller began is meant for this caller too (RFC 9111 section 4.1). */
function isFor(ask: Ask<unknown>, { base, key }: Place, { vary }: { vary?: readonly string[] | '*' }): boolean {
  if (vary === undefined) return true
  return vary !== '*' && (vary.length === 0 || ask.variantKey(base, vary) === key)
}

function slidByUse({ freshness, slidingMs = 0 }: Endpoint, entry: Entry, now: number): Entry {
  return slid(entry, freshFromUseMs(freshness, entry.key) ?? 0, slidingMs, now)
}

function noop(): void {}
