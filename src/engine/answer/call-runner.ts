import { type Decision, decide, decideOnFailure, type WithheldFor } from '../../core/decide/decide.js'
import { slid, timesOf } from '../../core/decide/entry-times.js'
import type { Outcome } from '../../core/decide/outcome.js'
import type { Endpoint } from '../../core/endpoints/endpoint.js'
import { CallOverdueError, NothingStoredError, OfflineError } from '../../core/errors/call-errors.js'
import { costOfCall, type Ending, endingOf } from '../../core/money/billed-calls.js'
import type { Clock } from '../../core/ports/clock.js'
import type { Entry, EntryStore } from '../../core/ports/entry-store.js'
import type { Maybe } from '../../core/ports/maybe.js'
import { freshFromUseMs } from '../../core/rules/freshness.js'
import type { Call } from '../call/call.js'
import type { CallRecord, CallRecorder } from '../call/call-record.js'
import type { WithAnswer } from '../call/fetched.js'
import { situationOf } from '../call/situation.js'
import type { Gate } from '../gate/gate.js'
import type { Landed } from '../upstream/landed.js'
import type { BackgroundRefresh } from './background-refresh.js'
import type { Caller, CallsInFlight } from './calls-in-flight.js'
import { leavingOf } from './leaving.js'
import type { Found, LookUp } from './look-up.js'
import { expectedStorage, type Live, labelled, storageAfter, storedOutcome } from './outcomes.js'
import type { RunningCalls } from './running-calls.js'
import { isFor, isShareable } from './sharing.js'

export interface Answered<T> {
  readonly answer: T
  readonly outcome: Outcome
  readonly record: CallRecord
}

export interface CallRunnerParts {
  readonly entries: EntryStore
  readonly clock: Clock
  readonly gate: Gate
  readonly lookUp: LookUp
  readonly inFlight: CallsInFlight
  readonly refresh: BackgroundRefresh
  readonly recorder: CallRecorder
  readonly running: RunningCalls
}

/** A call on its way upstream. */
interface Forwarding<T> {
  readonly caller: Caller<T>
  readonly record: CallRecord
  readonly found: Found
  readonly decision: Decision & { readonly do: 'call' }
}

/** What went wrong with the upstream call of a caller. */
interface Trouble<T> {
  readonly error?: unknown
  /** If it is not the upstream that failed. */
  readonly failure?: WithheldFor | undefined
  readonly facts?: Partial<Outcome>
  readonly landed?: Landed<T>
  readonly joined?: boolean
}

/** Runs calls: looks up, decides, calls upstream once for all who ask, and gives each its answer. */
export class CallRunner {
  readonly #parts: CallRunnerParts

  constructor(parts: CallRunnerParts) {
    this.#parts = parts
  }

  /** Answers a call. `first`: what is stored under its key, where that is known already. */
  run<T>(call: Call<T>, first?: Maybe<Entry | undefined>): Promise<Answered<T>> {
    return this.#parts.running.track(this.#run(call, first))
  }

  async #run<T>(call: Call<T>, first: Maybe<Entry | undefined>): Promise<Answered<T>> {
    const { recorder, refresh, running } = this.#parts
    const record = recorder.begin(call)
    const { signal, withinMs } = call.terms
    if (signal?.aborted) throw record.fail(signal.reason, { reason: 'abandoned' }, { how: 'abandoned', isWithheld: true })
    const { found, decision } = await this.consider(call, first)
    if (decision.do === 'serve') {
      if (decision.refresh) void running.track(refresh.begin(call, found))
      return this.#serve(call, record, found.entry as Entry, decision)
    }
    if (decision.do === 'refuse') {
      const { provider, name } = call.endpoint
      const error = decision.reason === 'offline' ? new OfflineError(provider, name) : new NothingStoredError(provider, name)
      throw record.fail(error, { reason: decision.reason }, { isWithheld: true })
    }
    const mayEnd = withinMs !== undefined && call.endpoint.mode !== 'measure'
    const caller = { call, terms: call.terms, deadline: mayEnd ? record.began + withinMs : undefined }
    return this.#forward({ caller, record, found, decision })
  }

  /** Looks up and decides what is to be done about a call, and does nothing about it. */
  async consider<T>(call: Call<T>, first?: Maybe<Entry | undefined>) {
    const { lookUp, clock, gate } = this.#parts
    const { endpoint, bypass, excerpt } = call
    const looksUp = endpoint.mode !== 'measure' && endpoint.freshForMs !== undefined && !bypass
    const found: Found = looksUp ? await lookUp.find(call, first) : { key: call.key ?? '', entry: undefined, varied: false }
    const { urgency } = call.terms
    const facts = Object.assign(situationOf(call, found.entry, clock.now()), {
      bypass,
      excerpt,
      varied: found.varied,
      heldOff: gate.isHeldOff({ endpoint, path: call.path, urgency }),
      budget: gate.budgetLevel(endpoint),
    })
    const decision = decide(facts)
    return { found, decision }
  }

  #serve<T>(call: Call<T>, record: CallRecord, entry: Entry, how: { how: 'hit' | 'stale' } & Pick<Outcome, 'reason' | 'fwd'>): Answered<T> {
    const { clock, entries } = this.#parts
    const { endpoint, form } = call
    const answer = form.restore(entry)
    const now = clock.now()
    const times = how.reason === 'fresh' && endpoint.slidingMs !== undefined && form.slides(entry) ? slidByUse(endpoint, entry, now) : entry
    if (times !== entry) void entries.updateTimes(entry.key, timesOf(times))
    const outcome = { ...storedOutcome(endpoint, times, now, how), ...labelled(call) }
    record.served(how.how, outcome, entry, form.statusOf(answer))
    return { answer, outcome, record }
  }

  async #forward<T>(forwarding: Forwarding<T>): Promise<Answered<T>> {
    const { caller, record, found, decision } = forwarding
    const { call } = caller
    const { shared, joined } = this.#parts.inFlight.callFor(caller, found, decision.reuse)
    let landed: Landed<T>
    const leaving = leavingOf(caller, this.#parts.clock)
    try {
      landed = await shared.join(leaving.signal)
    } catch (error) {
      if (error instanceof CallOverdueError) return this.#failOver(forwarding, { error, failure: 'overdue' })
      const isLeft = call.terms.signal?.aborted === true && error === call.terms.signal.reason
      throw record.fail(error, { fwd: decision.fwd, reason: decision.reason }, { how: isLeft ? 'abandoned' : 'errored' })
    } finally {
      leaving.over()
    }
    const { fetched } = landed
    if ('answer' in fetched) {
      const other = joined ? this.#otherCall(forwarding, landed, fetched) : undefined
      if (other) return this.#forward(other)
      const isForAll = isShareable(call, landed, fetched, this.#parts.clock.now()) && call.form.canJoin(fetched.answer)
      if (!joined) this.#parts.inFlight.isShared(found.key, isForAll)
    }
    if (fetched.result === 'withheld') return this.#failOver(forwarding, { error: fetched.error, failure: fetched.failure })
    const status = 'status' in fetched ? fetched.status : undefined
    const facts: Partial<Live<Outcome>> = paidFor(
      call.endpoint,
      joined,
      endingOf(fetched.result === 'abandoned' ? 'failed' : fetched.result, status),
    )
    facts.fwd = decision.fwd
    if (status !== undefined) facts.upstreamStatus = status
    if (landed.attempts > 1) facts.attempts = landed.attempts
    if (fetched.result !== 'answered') {
      return this.#failOver(forwarding, { ...('error' in fetched && { error: fetched.error }), facts, landed, joined })
    }
    return this.#answer(forwarding, landed, fetched, { facts, joined })
  }

  /** The call that a caller needs instead, where the answer of the one that it joined is not for it; undefined where it is. */
  #otherCall<T>(forwarding: Forwarding<T>, { place }: Landed<T>, fetched: WithAnswer<T>): Forwarding<T> | undefined {
    const { caller, found, decision } = forwarding
    const { call } = caller
    const isMine = isFor(call, place, fetched)
    const mayShare = isShareable(call, { place }, fetched, this.#parts.clock.now()) && call.form.canJoin(fetched.answer)
    if (isMine && mayShare) return undefined
    const { vary } = fetched
    const variant = !isMine && vary && vary !== '*' ? call.variantKey(place.base, vary) : undefined
    const isAlone = !mayShare || (!isMine && (variant === undefined || variant === found.key))
    const reuse = isAlone ? 'none' : decision.reuse
    return { ...forwarding, found: { ...found, key: variant ?? found.key }, decision: { ...decision, reuse } }
  }

  #answer<T>(
    { caller: { call }, record, decision }: Forwarding<T>,
    landed: Landed<T>,
    fetched: WithAnswer<T>,
    { facts, joined }: { facts: Partial<Outcome>; joined: boolean },
  ): Answered<T> {
    const { endpoint } = call
    const how = joined ? 'collapsed' : 'forwarded'
    const outcome: Live<Outcome> = {
      provider: endpoint.provider,
      endpoint: endpoint.name,
      how: call.isPassed ? 'passed' : how,
      reason: decision.reason,
      ageMs: 0,
    }
    const storage = decision.reuse === 'none' ? notReusable : expectedStorage(judged(landed, fetched))
    Object.assign(outcome, labelled(call), facts, call.isPassed ? undefined : storage)
    landed.onEnd((ended, { known, used }) => {
      record.wouldHaveCost(joined ? known : used, !joined)
      const failed = 'broken' in ended || 'amiss' in ended
      const isClientError = joined && endingOf('answered', fetched.status) === 'clientError'
      record.end(failed ? 'errored' : 'abandoned' in ended ? 'abandoned' : how, outcome.reason, { isClientError })
      if ((decision.reuse !== 'none' || failed) && !call.isPassed) Object.assign(outcome, storageAfter(ended))
      if (failed) Object.assign(outcome, paidFor(endpoint, joined, endingOf('failed', fetched.status)))
    })
    return { answer: joined ? call.form.copy(fetched.answer) : fetched.answer, outcome, record }
  }

  /** What a caller gets whose upstream call failed or was not made: an older answer, the default, else what went wrong. */
  #failOver<T>({ caller: { call }, record, found, decision }: Forwarding<T>, trouble: Trouble<T>): Answered<T> {
    const { endpoint, form } = call
    const { failure, facts = { fwd: decision.fwd }, landed, joined = false } = trouble
    const refuses = failure === 'limit-reached' && call.terms.atLimit === 'refuse'
    const situation = situationOf(call, found.entry, this.#parts.clock.now())
    const { do: what, reason } = refuses
      ? ({ do: 'give-up', reason: 'no-older-answer' } as const)
      : decideOnFailure({ ...situation, failure })
    if (what === 'serve') {
      const stale = this.#serve(call, record, found.entry as Entry, { how: 'stale', reason, fwd: decision.fwd })
      return { ...stale, outcome: { ...stale.outcome, ...facts } }
    }
    const common = { provider: endpoint.provider, endpoint: endpoint.name, reason, ageMs: 0, ...labelled(call), ...facts }
    if (what === 'fallback' && form.fallback) {
      record.end('fallback', reason)
      return { answer: form.fallback(), outcome: { ...common, how: 'fallback' }, record }
    }
    if ('error' in trouble || !landed || !('answer' in landed.fetched)) {
      throw record.fail(trouble.error, { ...facts, reason }, { isWithheld: failure !== undefined && failure !== 'overdue' })
    }
    record.end('errored', reason)
    const { answer } = landed.fetched
    const how = call.isPassed ? 'passed' : joined ? 'collapsed' : 'forwarded'
    const outcome: Live<Outcome> = { ...common, how, ...(!call.isPassed && { stored: false, notStored: 'status' }) }
    if (!call.isPassed) landed.onEnd((ended) => void Object.assign(outcome, storageAfter(ended)))
    return { answer: joined ? form.copy(answer) : answer, outcome, record }
  }
}

const notReusable = { stored: false, notStored: 'not-reusable' } as const

function judged<T>({ place }: Landed<T>, { judged: judge }: WithAnswer<T>) {
  try {
    return judge?.(place.key)
  } catch {
    return undefined // which is reported when it is stored
  }
}

function paidFor(endpoint: Endpoint, joined: boolean, ending: Ending): Partial<Outcome> {
  return joined ? { saved: endpoint.price } : { cost: costOfCall(endpoint, ending) }
}

function slidByUse({ freshness, slidingMs = 0 }: Endpoint, entry: Entry, now: number): Entry {
  return slid(entry, freshFromUseMs(freshness, entry.key) ?? 0, slidingMs, now)
}
