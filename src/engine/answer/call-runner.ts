import { type Decision, decide } from '../../core/decide/decide.js'
import type { Outcome } from '../../core/decide/outcome.js'
import { CallOverdueError, NothingStoredError, OfflineError } from '../../core/errors/call-errors.js'
import { endingOf } from '../../core/money/billed-calls.js'
import type { Clock } from '../../core/ports/clock.js'
import type { Entry, EntryStore } from '../../core/ports/entry-store.js'
import type { Maybe } from '../../core/ports/maybe.js'
import type { Call } from '../call/call.js'
import type { CallRecord, CallRecorder } from '../call/call-record.js'
import type { WithAnswer } from '../call/fetched.js'
import { situationOf } from '../call/situation.js'
import type { Gate } from '../gate/gate.js'
import { lateTurn } from '../late-turn.js'
import type { Landed, MadeElsewhere } from '../upstream/landed.js'
import { type Answered, Answering, type Forwarding, paidFor } from './answering.js'
import type { BackgroundRefresh } from './background-refresh.js'
import type { CallsInFlight } from './calls-in-flight.js'
import type { ClaimAhead } from './claim-ahead.js'
import { leavingOf } from './leaving.js'
import type { Found, LookUp, Waits } from './look-up.js'
import type { Live } from './outcomes.js'
import type { RunningCalls } from './running-calls.js'
import { isFor, isShareable } from './sharing.js'

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

/** What is stored for a call, and what is to be done about it. */
interface Considered {
  readonly found: Found
  readonly decision: Decision
}

/** How often the end of another process's call is waited for before a caller has one of its own. */
const mostWaits = 5

/** Runs calls: looks up, decides, calls upstream once for all who ask, and gives each its answer. */
export class CallRunner {
  readonly #parts: CallRunnerParts
  readonly #answering: Answering

  constructor(parts: CallRunnerParts) {
    this.#parts = parts
    this.#answering = new Answering(parts.clock, parts.entries, parts.gate)
  }

  /** Answers a call. `first`: what is stored under its key, where that is known already. */
  run<T>(call: Call<T>, first?: Maybe<Entry | undefined>): Promise<Answered<T>> {
    return this.#parts.running.track(this.#run(call, first))
  }

  async #run<T>(call: Call<T>, first: Maybe<Entry | undefined>): Promise<Answered<T>> {
    const { recorder, inFlight, clock } = this.#parts
    const late = lateTurn(clock)
    if (late) await late
    const record = recorder.begin(call)
    const { signal } = call.terms
    if (signal?.aborted) throw record.fail(signal.reason, { reason: 'abandoned' }, { how: 'abandoned', isWithheld: true })
    let ahead: ClaimAhead | undefined
    const considered = await this.consider(call, first, (keys) => {
      ahead = inFlight.askAhead(call, keys)
    })
    inFlight.saw(considered.found.key, considered.found.entry)
    if (!ahead) return this.#answer(call, record, considered)
    try {
      return await this.#answer(call, record, considered, ahead)
    } finally {
      ahead.drop()
    }
  }

  /** Does what is decided about a call. */
  #answer<T>(call: Call<T>, record: CallRecord, { found, decision }: Considered, ahead?: ClaimAhead): Maybe<Answered<T>> {
    const { refresh, running } = this.#parts
    if (decision.do === 'serve') {
      if (decision.refresh) void running.track(refresh.begin(call, found, ahead))
      return this.#answering.serve(call, record, found.entry as Entry, decision)
    }
    if (decision.do === 'refuse') {
      const { provider, name } = call.endpoint
      const error = decision.reason === 'offline' ? new OfflineError(provider, name) : new NothingStoredError(provider, name)
      throw record.fail(error, { reason: decision.reason }, { isWithheld: true })
    }
    const { withinMs } = call.terms
    const mayEnd = withinMs !== undefined && call.endpoint.mode !== 'measure'
    const caller = { call, terms: call.terms, deadline: mayEnd ? record.began + withinMs : undefined }
    return this.#forward({ caller, record, found, decision, ahead })
  }

  /** Looks up and decides what is to be done about a call, and does nothing about it. */
  async consider<T>(call: Call<T>, first?: Maybe<Entry | undefined>, waits?: Waits): Promise<Considered> {
    const { lookUp, clock, gate } = this.#parts
    const { endpoint, bypass, excerpt } = call
    const looksUp = endpoint.mode !== 'measure' && endpoint.freshForMs !== undefined && !bypass
    const found: Found = looksUp ? await lookUp.find(call, first, waits) : { key: call.key ?? '', entry: undefined, varied: false }
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

  async #forward<T>(forwarding: Forwarding<T>): Promise<Answered<T>> {
    const { caller, record, found, decision, ahead, over = false } = forwarding
    const { call } = caller
    const { shared, joined: isJoined } = this.#parts.inFlight.callFor(caller, found, { reuse: decision.reuse, over, ahead })
    let landed: Landed<T>
    const leaving = leavingOf(caller, this.#parts.clock)
    try {
      landed = await shared.join(leaving.signal)
    } catch (error) {
      if (error instanceof CallOverdueError) return this.#answering.failOver(forwarding, { error, failure: 'overdue' })
      const isLeft = call.terms.signal?.aborted === true && error === call.terms.signal.reason
      throw record.fail(error, { fwd: decision.fwd, reason: decision.reason }, { how: isLeft ? 'abandoned' : 'errored' })
    } finally {
      leaving.over()
    }
    const { fetched } = landed
    const joined = isJoined || landed.isRelayed === true
    if (fetched.result === 'elsewhere') return this.#afterOther(forwarding, fetched)
    if ('answer' in fetched) {
      this.#parts.lookUp.landed(call, landed.place)
      if (isJoined && landed.isLost && (await landed.isLost())) {
        shared.superseded = true
        return this.#afterOther(forwarding, { end: 'over', look: (key) => this.#parts.entries.get(key) })
      }
      const other = joined ? this.#otherCall(forwarding, landed, fetched) : undefined
      if (other) return this.#forward(other)
      const isForAll = isShareable(call, landed, fetched, this.#parts.clock.now()) && call.form.canJoin(fetched.answer)
      if (!joined) this.#parts.inFlight.isShared(found.key, isForAll)
    }
    if (fetched.result === 'withheld') return this.#answering.failOver(forwarding, { error: fetched.error, failure: fetched.failure })
    const status = 'status' in fetched ? fetched.status : undefined
    const isUnreached = 'unreached' in fetched && fetched.unreached === true
    const ending = endingOf(fetched.result === 'abandoned' ? 'failed' : fetched.result, status)
    const facts: Partial<Live<Outcome>> = isUnreached ? {} : paidFor(call.endpoint, joined, ending)
    facts.fwd = decision.fwd
    if (status !== undefined) facts.upstreamStatus = status
    if (landed.attempts > 1) facts.attempts = landed.attempts
    if (fetched.result !== 'answered') {
      return this.#answering.failOver(forwarding, { ...('error' in fetched && { error: fetched.error }), facts, landed, joined })
    }
    return this.#answering.answer(forwarding, landed, fetched, { facts, joined })
  }

  /** What a caller gets once the call of another process, which it waited for, is over: what that has stored, else a call of its own. */
  async #afterOther<T>(forwarding: Forwarding<T>, { end, look }: Pick<MadeElsewhere, 'end' | 'look'>): Promise<Answered<T>> {
    const { caller, record, found: before, decision: first, waits = 0 } = forwarding
    const { call } = caller
    if (end === 'for-one') this.#parts.inFlight.isShared(before.key, false)
    const { found, decision } = await this.consider(call, call.key === undefined ? undefined : look(call.key))
    if (decision.do !== 'serve' || !found.entry) {
      const isNew = found.key === before.key && found.entry !== undefined && found.entry.storedAt !== before.entry?.storedAt
      const over = end === 'not-stored' || isNew || waits + 1 >= mostWaits
      return this.#forward({ caller, record, found, decision: decision.do === 'call' ? decision : first, waits: waits + 1, over })
    }
    if (decision.how === 'stale' || end === undefined) return this.#answering.serve(call, record, found.entry, decision)
    return this.#answering.collapsed(call, record, found.entry, first)
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
}
