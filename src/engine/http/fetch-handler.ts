import { isFresh } from '../../core/decide/entry-times.js'
import type { Explanation } from '../../core/decide/explanation.js'
import type { Outcome } from '../../core/decide/outcome.js'
import type { Endpoint, RequestEndpoint } from '../../core/endpoints/endpoint.js'
import type { CallOptions } from '../../core/endpoints/options.js'
import { NothingStoredError } from '../../core/errors/call-errors.js'
import { UsageError } from '../../core/errors/setup-errors.js'
import { noDirectives } from '../../core/http/request-directives.js'
import { isSignpost } from '../../core/http/variants.js'
import { OnDemand } from '../../core/on-demand.js'
import type { Clock } from '../../core/ports/clock.js'
import type { Entry, EntryStore } from '../../core/ports/entry-store.js'
import type { Maybe } from '../../core/ports/maybe.js'
import { Remembered } from '../../core/remembered.js'
import type { CallRunner } from '../answer/call-runner.js'
import { labelled, storedOutcome } from '../answer/outcomes.js'
import type { PutAnswer, PutParts } from '../answer/put-answer.js'
import { warmLabel } from '../answer/warm-options.js'
import type { CallRecorder } from '../call/call-record.js'
import type { Events } from '../events.js'
import { lateTurn } from '../late-turn.js'
import type { EndpointCounter } from '../ledger/endpoint-counter.js'
import { AnswerResponse } from './answer-response.js'
import { excerpted } from './excerpt.js'
import type { explainCall } from './explain-call.js'
import { answerOfEntry, type CompleteAnswer, type HttpAnswer, type Recipient, toResponse } from './http-answer.js'
import type { HttpCall, Matched } from './http-call.js'
import { textOfGet } from './http-request.js'
import type { Fetch } from './http-upstream.js'
import type { CallPreparation, Prepared, PreparedBatch } from './prepare-call.js'
import { refusalAnswer } from './refusal-response.js'
import { type RequestSnapshot, snapshotOf } from './request-snapshot.js'

/** What explains calls, and what stores answers that are put. */
export const explainingCode = new OnDemand(() => import('./explain-call.js'))
export const puttingCode = new OnDemand(() => import('../answer/put-answer.js'))

/** A plain GET by URL, once its endpoint and key are known. */
interface Known extends Recipient {
  readonly endpoint: Endpoint
  readonly freshForMs: number
  readonly counter: EndpointCounter
  readonly key: string
}

export interface FetchHandlerParts {
  readonly preparation: CallPreparation
  readonly runner: CallRunner
  readonly recorder: CallRecorder
  readonly entries: EntryStore
  readonly clock: Clock
  readonly events: Events
  readonly explaining: Parameters<typeof explainCall>[0]
  readonly putting: PutParts
  /** How much is remembered of plain GETs, their endpoints and keys, bytes at the most. */
  readonly rememberedBytes: number
}

/** Answers HTTP requests: finds the endpoint and the key, hands the call to the runner and makes a `Response` of its answer. */
export class FetchHandler {
  readonly #parts: FetchHandlerParts
  /** Of responses that are passed on as they came. */
  readonly #opaque = new WeakMap<Response, Outcome>()
  readonly #known: Remembered<Known>

  constructor(parts: FetchHandlerParts) {
    this.#parts = parts
    this.#known = new Remembered(parts.rememberedBytes)
  }

  /** How a call was answered, by its response, or by the error it ended in. */
  outcomeOf(response: unknown): Outcome | undefined {
    return AnswerResponse.outcomeOf(response) ?? this.#opaque.get(response as Response) ?? this.#parts.recorder.outcomeOf(response)
  }

  fetch(input: Parameters<Fetch>[0], init?: Parameters<Fetch>[1], wanted?: CallOptions): Promise<Response> {
    const { clock, entries, preparation } = this.#parts
    const began = clock.ticks()
    let remembered: Known | undefined
    let prepared: Maybe<Prepared> | undefined
    let known: Known | undefined
    try {
      const text = wanted === undefined ? textOfGet(input, init) : undefined
      remembered = text === undefined || isLeft(input, init) ? undefined : this.#known.get(text)
      if (!remembered) {
        const sent = snapshotOf(input, init)
        prepared = preparation.prepare(sent, wanted)
        known = prepared instanceof Promise || wanted ? undefined : this.#knownOf(prepared)
        if (text !== undefined && known) this.#remember(sent, known, (prepared as Prepared).matched)
      }
    } catch (error) {
      return Promise.reject(error)
    }
    known ??= remembered
    const first = known && entries.get(known.key)
    const fresh = known && this.#freshFrom(known, first, began)
    if (fresh && fresh !== 'corrupt') return fresh
    prepared ??= preparation.prepare(snapshotOf(input, init), wanted)
    return this.#fetch(prepared, wanted, fresh === 'corrupt' ? undefined : first)
  }

  /** The short way of a plain GET to a fresh answer that its store gives at once. */
  #freshFrom(known: Known, entry: Maybe<Entry | undefined>, began: number): Promise<Response> | 'corrupt' | undefined {
    const { clock, events, recorder, entries } = this.#parts
    const { endpoint, freshForMs } = known
    const now = clock.now()
    if (!entry || entry instanceof Promise || isSignpost(entry.head) || !isFresh(entry, freshForMs, now)) return undefined
    if (entry.freshUntil - now <= endpoint.refreshAheadMs || events.callsHeard) return undefined
    const answer = this.#readable(known, entry)
    if (!answer) return 'corrupt'
    const foundIn = entries.foundIn?.(entry)
    entries.given?.(entry, now, true)
    const ms = clock.ticks() - began
    const outcome = storedOutcome(endpoint, entry, now, { how: 'hit', reason: 'fresh', ms, layer: foundIn?.layer })
    const response = this.#respond(answer, outcome, now, known, noop)
    recorder.hit(known, entry, now, { ms, status: answer.status, foundIn })
    const late = lateTurn(clock)
    return late ? late.then(() => response) : Promise.resolve(response)
  }

  #readable(known: Known, entry: Entry): CompleteAnswer | undefined {
    try {
      return answerOfEntry(entry)
    } catch (error) {
      this.#parts.recorder.corrupt(known, entry.key, error)
      void this.#parts.entries.remove({ key: entry.key })
      return undefined
    }
  }

  /** What a call would do now; nothing is called, stored or counted. */
  async explain(input: Parameters<Fetch>[0], init: Parameters<Fetch>[1]): Promise<Explanation> {
    const { preparation, explaining } = this.#parts
    const prepared = oneCall(await preparation.prepare(snapshotOf(input, init)))
    const { explainCall } = await explainingCode.get()
    return explainCall(explaining, preparation.call(prepared), prepared.matched)
  }

  /** The call that a request comes to, for what nobody waits for. */
  async callOf(input: Parameters<Fetch>[0], init: Parameters<Fetch>[1]): Promise<HttpCall> {
    const { preparation } = this.#parts
    return preparation.call(oneCall(await preparation.prepare(snapshotOf(input, init))), { background: true, label: warmLabel })
  }

  /** Stores an answer to a request, that came at a time. */
  async put(input: Parameters<Fetch>[0], answer: Response, at?: number): Promise<PutAnswer> {
    const { preparation, putting } = this.#parts
    const own = answer.clone()
    void answer.body?.cancel() // its caller cannot read what is stored any more, nor hold it up
    const prepared = oneCall(await preparation.prepare(snapshotOf(input, undefined)))
    const call = preparation.call(prepared, { reload: true }, { fetch: async () => own, at })
    if (!prepared.matched.endpoint)
      throw new UsageError(`no endpoint covers ${call.sent.method} ${call.sent.url}: nothing can be stored for it; see stashen explain`)
    const { putAnswer } = await puttingCode.get()
    return putAnswer(putting, call, at)
  }

  async #fetch(preparing: Maybe<Prepared>, wanted: CallOptions | undefined, first: Maybe<Entry | undefined>): Promise<Response> {
    const { preparation } = this.#parts
    const prepared = preparing instanceof Promise ? await preparing : preparing
    if (prepared.batch) return this.#fetchBatch(prepared, prepared.batch, wanted)
    return this.#answer(preparation.call(prepared, wanted), prepared.matched, wanted, first)
  }

  /** Answers the calls of a batch, and makes one response of their replies; where one is refused or fails without a reply, the batch is. */
  async #fetchBatch({ matched, sending }: Prepared, prepared: PreparedBatch, wanted: CallOptions | undefined): Promise<Response> {
    const { preparation, clock } = this.#parts
    const { batch, calls } = preparation.batch(prepared, wanted)
    const all = await Promise.allSettled(
      calls.map((call, i) => this.#answer(call, (prepared.calls[i] as Prepared).matched, wanted, undefined).finally(() => batch.over(i))),
    )
    const responses = all.map((one) => {
      if (one.status === 'rejected') throw one.reason
      return one.value
    })
    const { answer, outcome } = await batch.responseOf(
      responses,
      responses.map((one) => this.outcomeOf(one) as Outcome),
    )
    const { method, url } = matched
    const recipient = { method, url: withoutFragment(url), signal: sending.signal }
    return this.#respond(answer, outcome, clock.now(), recipient, noop)
  }

  async #answer(
    call: HttpCall,
    { method, url, rule }: Matched,
    wanted: CallOptions | undefined,
    first: Maybe<Entry | undefined>,
  ): Promise<Response> {
    const { clock, runner } = this.#parts
    const recipient: Recipient = { method, url: withoutFragment(url), signal: call.terms.signal }
    try {
      const { answer, outcome, record } = await runner.run(call, first)
      const now = clock.now()
      const isStored = outcome.how === 'hit' || outcome.how === 'stale'
      const isExcerpt = call.excerpt !== undefined && isStored
      const own = isExcerpt ? excerpted(answer as CompleteAnswer, now - outcome.ageMs, (name) => call.header(name)) : call.ownForm(answer)
      return this.#respond(own, outcome, now, recipient, () => record.end('abandoned', outcome.reason))
    } catch (error) {
      return this.#refused(error, call, wanted?.refusals ?? rule.refusals, recipient)
    }
  }

  /** The response to a request that was refused, where that is wanted; else the error. */
  #refused(error: unknown, call: HttpCall, refusals: RequestEndpoint['refusals'], recipient: Recipient): Response {
    const now = this.#parts.clock.now()
    if (error instanceof NothingStoredError) {
      if (call.directives.storedOnly === 'error') throw new TypeError(error.message, { cause: error })
      return this.#gatewayTimeout(call, recipient, this.#parts.recorder.outcomeOf(error)?.ms ?? 0)
    }
    const answer = refusals === 'respond' ? refusalAnswer(error, now) : undefined
    if (!answer) throw error
    const failed = this.#parts.recorder.outcomeOf(error)
    const { provider, name } = call.endpoint
    const outcome: Outcome = { provider, endpoint: name, ms: 0, ageMs: 0, reason: 'no-older-answer', ...failed, how: 'refused' }
    return this.#respond(answer, outcome, now, recipient, noop)
  }

  /** The answer to a request for stored answers only, where there is none (RFC 9111 section 5.2.1.7). */
  #gatewayTimeout(call: HttpCall, recipient: Recipient, ms: number): Response {
    const { provider, name } = call.endpoint
    const outcome: Outcome = { provider, endpoint: name, how: 'refused', reason: 'stored-only-asked', ms, ageMs: 0, ...labelled(call) }
    const answer: HttpAnswer = { status: 504, statusText: 'Gateway Timeout', fields: [], body: new Uint8Array() }
    return this.#respond(answer, outcome, this.#parts.clock.now(), recipient, noop)
  }

  #respond(answer: HttpAnswer, outcome: Outcome, now: number, recipient: Recipient, abandoned: () => void): Response {
    const response = toResponse(answer, outcome, now, recipient, abandoned)
    if (answer.opaque) this.#opaque.set(response, outcome)
    return response
  }

  /** What the short way needs of a request; undefined where it may not take that. */
  #knownOf({ matched, sending }: Prepared): Known | undefined {
    const { method, url, rule, counter } = matched
    const { keyed, bypass, signal } = sending
    const { freshForMs, slidingMs, mode } = rule
    if (!keyed || bypass || freshForMs === undefined || slidingMs !== undefined || mode === 'measure' || signal?.aborted) return undefined
    if (keyed.directives !== noDirectives || keyed.excerpt || keyed.tenant !== undefined) return undefined
    return { method, url: withoutFragment(url), signal, endpoint: rule, freshForMs, counter, key: keyed.key }
  }

  /** Functions of the rule may look at more than the request. */
  #remember({ input, init }: RequestSnapshot, known: Known, { provider, rule: { exceptRequest, keying } }: Matched): void {
    if (exceptRequest || keying.by || keying.per || provider?.caller) return
    const text = textOfGet(input, init)
    if (text !== undefined) this.#known.set(text, { ...known, signal: undefined }, [known.url, known.key])
  }
}

function oneCall(prepared: Prepared): Prepared {
  if (prepared.batch) throw new UsageError(`the request is a batch of ${prepared.batch.calls.length} calls: give each by itself`)
  return prepared
}

function withoutFragment({ href, hash }: URL): string {
  return hash === '' ? href : href.slice(0, -hash.length)
}

/** Whether the caller has gone already. */
function isLeft(input: Parameters<Fetch>[0], init: Parameters<Fetch>[1]): boolean {
  if (init === undefined && typeof input === 'string') return false
  return (init?.signal ?? (input instanceof Request ? input.signal : undefined))?.aborted === true
}

function noop(): void {}
