import { type Decision, decideOnFailure, type WithheldFor } from '../../core/decide/decide.js'
import { slid, timesOf } from '../../core/decide/entry-times.js'
import type { Outcome } from '../../core/decide/outcome.js'
import { byChoice } from '../../core/decide/reasons.js'
import type { Endpoint } from '../../core/endpoints/endpoint.js'
import { costOfCall, type Ending, endingOf } from '../../core/money/billed-calls.js'
import type { Clock } from '../../core/ports/clock.js'
import type { Entry, EntryStore } from '../../core/ports/entry-store.js'
import { freshFromUseMs } from '../../core/rules/freshness.js'
import type { Call } from '../call/call.js'
import type { CallRecord } from '../call/call-record.js'
import type { WithAnswer } from '../call/fetched.js'
import { situationOf } from '../call/situation.js'
import type { Gate } from '../gate/gate.js'
import type { Landed } from '../upstream/landed.js'
import type { Caller } from './calls-in-flight.js'
import type { ClaimAhead } from './claim-ahead.js'
import type { Found } from './look-up.js'
import { expectedStorage, type Live, labelled, storageAfter, storedOutcome } from './outcomes.js'

export interface Answered<T> {
  readonly answer: T
  readonly outcome: Outcome
  readonly record: CallRecord
}

/** A call on its way upstream. */
export interface Forwarding<T> {
  readonly caller: Caller<T>
  readonly record: CallRecord
  readonly found: Found
  readonly decision: Decision & { readonly do: 'call' }
  /** The claim on its key, where that was asked for already. */
  readonly ahead?: ClaimAhead | undefined
  /** How often the end of a call of another process was waited for, and whether none is waited for any more. */
  readonly waits?: number
  readonly over?: boolean
}

/** What went wrong with the upstream call of a caller. */
export interface Trouble<T> {
  readonly error?: unknown
  /** If it is not the upstream that failed. */
  readonly failure?: WithheldFor | undefined
  readonly facts?: Partial<Outcome>
  readonly landed?: Landed<T>
  readonly joined?: boolean
}

/** Gives callers their answers, and has each recorded. */
export class Answering {
  readonly #clock: Clock
  readonly #entries: EntryStore
  readonly #gate: Pick<Gate, 'wasUnreached'>

  constructor(clock: Clock, entries: EntryStore, gate: Pick<Gate, 'wasUnreached'>) {
    this.#clock = clock
    this.#entries = entries
    this.#gate = gate
  }

  /** A stored answer. */
  serve<T>(call: Call<T>, record: CallRecord, entry: Entry, how: { how: 'hit' | 'stale' } & Pick<Outcome, 'reason' | 'fwd'>): Answered<T> {
    const [clock, entries] = [this.#clock, this.#entries]
    const { endpoint, form } = call
    const answer = form.restore(entry)
    const now = clock.now()
    const times = how.reason === 'fresh' && endpoint.slidingMs !== undefined && form.slides(entry) ? slidByUse(endpoint, entry, now) : entry
    if (times !== entry) void entries.updateTimes(entry.key, timesOf(times))
    const foundIn = entries.foundIn?.(entry)
    entries.given?.(entry, now, how.how === 'hit' || byChoice.includes(how.reason))
    const outcome = { ...storedOutcome(endpoint, times, now, { ...how, ms: record.ms, layer: foundIn?.layer }), ...labelled(call) }
    const wasUnreached = how.reason === 'held-off' && this.#gate.wasUnreached({ endpoint, path: call.path, urgency: call.terms.urgency })
    record.served({ ...how, ageMs: outcome.ageMs }, entry, { status: form.statusOf(answer), foundIn, wasUnreached })
    return { answer, outcome, record }
  }

  /** Gives a caller who waited what the call of another process has stored. */
  collapsed<T>(call: Call<T>, record: CallRecord, entry: Entry, { fwd, reason }: Forwarding<T>['decision']): Answered<T> {
    const { endpoint, form } = call
    const answer = form.restore(entry)
    const status = form.statusOf(answer)
    const stored = storedOutcome(endpoint, entry, this.#clock.now(), { how: 'collapsed', reason, fwd, ms: record.ms })
    record.wouldHaveCost(entry.units, false)
    this.#entries.given?.(entry, this.#clock.now(), true)
    record.end('collapsed', reason, { isClientError: status !== undefined && endingOf('answered', status) === 'clientError' })
    return { answer, outcome: { ...stored, ...labelled(call) }, record }
  }

  /** The answer of an upstream call. */
  answer<T>(
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
      ms: record.ms,
      ageMs: 0,
    }
    const storage = decision.reuse === 'none' ? notReusable : expectedStorage(judged(landed, fetched))
    Object.assign(outcome, labelled(call), facts, call.isPassed ? undefined : storage)
    landed.onWhole((finished, { known, used }) => {
      const isOwn = !joined || landed.takeOwn?.() === true
      if (isOwn && joined)
        Object.assign(outcome, { how: 'forwarded', saved: undefined }, paidFor(endpoint, false, endingOf('answered', fetched.status)))
      record.wouldHaveCost(isOwn ? used : known, isOwn)
      const failed = 'broken' in finished || 'amiss' in finished
      const isClientError = !isOwn && endingOf('answered', fetched.status) === 'clientError'
      record.end(failed ? 'errored' : 'abandoned' in finished ? 'abandoned' : isOwn ? 'forwarded' : how, outcome.reason, { isClientError })
      if (failed) Object.assign(outcome, paidFor(endpoint, !isOwn, endingOf('failed', fetched.status)))
    })
    landed.onEnd((ended) => {
      const failed = 'broken' in ended || 'amiss' in ended
      if ((decision.reuse !== 'none' || failed) && !call.isPassed) Object.assign(outcome, storageAfter(ended))
    })
    return { answer: joined ? call.form.copy(fetched.answer) : fetched.answer, outcome, record }
  }

  /** What a caller gets whose upstream call failed or was not made: an older answer, the default, else what went wrong. */
  failOver<T>({ caller: { call }, record, found, decision }: Forwarding<T>, trouble: Trouble<T>): Answered<T> {
    const { endpoint, form } = call
    const { failure, facts = { fwd: decision.fwd }, landed, joined = false } = trouble
    const refuses = failure === 'limit-reached' && call.terms.atLimit === 'refuse'
    const situation = situationOf(call, found.entry, this.#clock.now())
    const { do: what, reason } = refuses
      ? ({ do: 'give-up', reason: 'no-older-answer' } as const)
      : decideOnFailure({ ...situation, failure })
    if (what === 'serve') {
      const stale = this.serve(call, record, found.entry as Entry, { how: 'stale', reason, fwd: decision.fwd })
      return { ...stale, outcome: { ...stale.outcome, ...facts } }
    }
    const common = { provider: endpoint.provider, endpoint: endpoint.name, reason, ms: record.ms, ageMs: 0, ...labelled(call), ...facts }
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

export function paidFor(endpoint: Endpoint, joined: boolean, ending: Ending): Partial<Outcome> {
  return joined ? { saved: endpoint.price } : { cost: costOfCall(endpoint, ending) }
}

function slidByUse({ freshness, slidingMs = 0 }: Endpoint, entry: Entry, now: number): Entry {
  return slid(entry, freshFromUseMs(freshness, entry.key) ?? 0, slidingMs, now)
}
