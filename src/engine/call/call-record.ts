import type { FoundIn, Layer } from '../../core/decide/layer.js'
import type { Outcome } from '../../core/decide/outcome.js'
import { byChoice, type Reason } from '../../core/decide/reasons.js'
import type { Endpoint } from '../../core/endpoints/endpoint.js'
import { countHit } from '../../core/ledger/count-calls.js'
import type { Tally } from '../../core/ledger/tally.js'
import type { Units } from '../../core/money/units.js'
import type { Clock } from '../../core/ports/clock.js'
import type { Entry } from '../../core/ports/entry-store.js'
import type { Events } from '../events.js'
import type { EndpointCounter } from '../ledger/endpoint-counter.js'

/** How a call ended, as it is counted. */
export type CallResult = 'hit' | 'stale' | 'collapsed' | 'forwarded' | 'fallback' | 'errored' | 'abandoned'

/** What of a call its record says. */
interface Recorded {
  readonly endpoint: Endpoint
  readonly counter: EndpointCounter
  readonly key: string | undefined
  readonly isPassed?: boolean
  readonly countedFor?: string | undefined
  readonly terms?: { readonly label: string | undefined }
}

/** Records calls: everything that is counted or told of a call of the application goes through here. */
export class CallRecorder {
  readonly clock: Clock
  readonly events: Events
  readonly #failures = new WeakMap<object, Outcome>()
  readonly #underWay = new Set<CallRecord>()

  constructor(clock: Clock, events: Events) {
    this.clock = clock
    this.events = events
  }

  begin(call: Recorded): CallRecord {
    const record = new CallRecord(call, this)
    this.#underWay.add(record)
    return record
  }

  /** A call has ended. */
  over(record: CallRecord): void {
    this.#underWay.delete(record)
  }

  /** The process or the page ends before the calls under way do. */
  leave(): void {
    for (const record of [...this.#underWay]) record.end('abandoned', 'abandoned')
  }

  /** A fresh answer from store that was given at once, with nobody listening: the same as a record, without making one. */
  hit(
    { counter }: Pick<Recorded, 'counter'>,
    entry: Entry,
    now: number,
    how: { readonly ms: number; readonly status: number | undefined; readonly foundIn?: FoundIn | undefined },
  ): void {
    countHit(counter.at(now), entry, now, how)
  }

  /** A stored answer that nobody could read. */
  corrupt({ endpoint, counter }: Pick<Recorded, 'endpoint' | 'counter'>, key: string, error: unknown): void {
    counter.at(this.clock.now()).corrupt++
    this.events.tell('corrupt-entry', { provider: endpoint.provider, endpoint: endpoint.name, key, error })
  }

  /** How a call was answered that ended in an error. */
  outcomeOf(error: unknown): Outcome | undefined {
    return typeof error === 'object' && error !== null ? this.#failures.get(error) : undefined
  }

  remember(error: unknown, outcome: Outcome): void {
    if (typeof error === 'object' && error !== null) this.#failures.set(error, outcome)
  }
}

/** Counts one call once, when it is over: whatever comes after its end changes nothing. */
export class CallRecord {
  readonly #call: Recorded
  readonly #recorder: CallRecorder
  readonly began: number
  #isOver = false

  constructor(call: Recorded, recorder: CallRecorder) {
    this.#call = call
    this.#recorder = recorder
    this.began = recorder.clock.ticks()
  }

  /** How long the call has taken by now, milliseconds. */
  get ms(): number {
    return this.#recorder.clock.ticks() - this.began
  }

  /** `isClientError`: of an answer that took no upstream call of its own, whether it is 4xx. */
  end(
    how: CallResult,
    reason?: Reason,
    {
      error,
      isClientError = false,
      layer,
      wasUnreached = false,
    }: { error?: unknown; isClientError?: boolean; layer?: Layer | undefined; wasUnreached?: boolean } = {},
  ): void {
    if (this.#isOver) return
    this.#isOver = true
    this.#recorder.over(this)
    const { events } = this.#recorder
    const { endpoint, key, isPassed = false, terms } = this.#call
    const { ms } = this
    this.#count((tally) => {
      tally[how]++
      tally.latency.add(ms)
      if (how === 'forwarded' && (reason === 'absent' || reason === 'no-variant')) {
        tally.first++
        tally.firstMicros += Math.round(ms * 1000)
      }
      if (how === 'stale' && reason === 'held-off' && !wasUnreached) tally.staleHeldOff++ // else the next call would not have reached the provider
      if (how === 'stale' && byChoice.includes(reason)) tally.staleByChoice++
      if (how === 'hit' || how === 'collapsed' || (how === 'stale' && byChoice.includes(reason))) {
        tally.avoidedMicros += Math.round(ms * 1000)
        if (isClientError) tally.savedClientError++
      }
    })
    if (!events.callsHeard) return
    events.tell('call', {
      ...{ provider: endpoint.provider, endpoint: endpoint.name, mode: endpoint.mode, ...(key !== undefined && { key }), ms },
      how: how === 'errored' ? 'failed' : how === 'forwarded' && isPassed ? 'passed' : how,
      ...(reason && { reason }),
      ...(layer && { layer }),
      ...(terms?.label !== undefined && { label: terms.label }),
      ...(error !== undefined && { error }),
    })
  }

  /** Counts a call that was answered from store. */
  served(
    { how, reason, ageMs }: Pick<Outcome, 'reason' | 'ageMs'> & { readonly how: 'hit' | 'stale' },
    entry: Entry,
    {
      status,
      foundIn,
      wasUnreached,
    }: { readonly status: number | undefined; readonly foundIn?: FoundIn | undefined; readonly wasUnreached?: boolean },
  ): void {
    if (this.#isOver) return
    this.#count((tally) => {
      if (foundIn) tally.countLayer(foundIn)
      tally.age.add(ageMs)
      if (how === 'hit' || byChoice.includes(reason)) tally.addUnits('asked', entry.units)
      if (how === 'stale') tally.oldestStaleMs = Math.max(tally.oldestStaleMs, ageMs)
    })
    if (how === 'stale') {
      const { provider, name } = this.#call.endpoint
      this.#recorder.events.tell('stale', { provider, endpoint: name, reason, ageMs })
    }
    this.end(how, reason, {
      isClientError: status !== undefined && status >= 400 && status < 500,
      layer: foundIn?.layer,
      ...(wasUnreached && { wasUnreached }),
    })
  }

  /** Counts units that the call would have cost without the stash; `isOwn`: its own upstream call did, though its caller may have gone by now. */
  wouldHaveCost(units: Units | undefined, isOwn: boolean): void {
    if (isOwn || !this.#isOver) this.#count((tally) => tally.addUnits('asked', units))
  }

  /** Counts a call that ends in an error, and remembers how, for whoever catches it. Returns the error. */
  fail(
    error: unknown,
    facts: Partial<Outcome> & { readonly reason: Reason },
    { how = 'errored', isWithheld = false }: { readonly how?: 'errored' | 'abandoned'; readonly isWithheld?: boolean } = {},
  ): unknown {
    const { provider, name } = this.#call.endpoint
    const label = this.#call.terms?.label
    const outcome: Outcome = { provider, endpoint: name, how: how === 'errored' ? 'failed' : how, ms: this.ms, ageMs: 0, ...facts }
    this.#recorder.remember(error, label === undefined ? outcome : { ...outcome, label })
    if (isWithheld && !this.#isOver) this.#count((tally) => void tally.withheld++)
    this.end(how, facts.reason, { error })
    return error
  }

  #count(how: (tally: Tally) => void): void {
    this.#call.counter.at(this.#recorder.clock.now()).count(this.#call.countedFor, how)
  }
}
