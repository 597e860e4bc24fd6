import { ageMs } from '../../core/decide/decide.js'
import { isFresh } from '../../core/decide/entry-times.js'
import type { Explanation } from '../../core/decide/explanation.js'
import type { Outcome } from '../../core/decide/outcome.js'
import { reasons } from '../../core/decide/reasons.js'
import type { Endpoint } from '../../core/endpoints/endpoint.js'
import type { CallOptions } from '../../core/endpoints/options.js'
import { unmatched } from '../../core/endpoints/unmatched.js'
import { NothingStoredError, OfflineError } from '../../core/errors/call-errors.js'
import { isSignpost } from '../../core/http/variants.js'
import { countHit } from '../../core/ledger/tally.js'
import type { Entry } from '../../core/ports/entry-store.js'
import { leftOut } from '../../core/rules/request-key.js'
import { storedOutcome } from '../answer/outcomes.js'
import type { EndpointCounter } from '../ledger/ledger-writer.js'
import { excerpted } from './excerpt.js'
import { answerOfEntry, type CompleteAnswer, type HttpAnswer, type Recipient, toResponse } from './http-answer.js'
import { type HttpAsk, type HttpAsksParts, HttpCallMaker, type Matched } from './http-call.js'
import type { Fetch } from './http-upstream.js'
import { PassedCalls, whyNoRule } from './passed-calls.js'

/** A plain GET by URL, once its endpoint and key are known. */
interface Known extends Recipient {
  readonly endpoint: Endpoint
  readonly freshForMs: number
  readonly line: EndpointCounter
  readonly key: string
}

/** Plain GETs whose endpoint and key are remembered, at the most. */
const mostKnown = 1_000

/** Answers HTTP requests: finds the endpoint and the key, hands the call to the runner and makes a `Response` of its answer. */
export class FetchHandler {
  readonly #parts: HttpAsksParts
  readonly #asks: HttpCallMaker
  readonly #passed: PassedCalls
  readonly #outcomes = new WeakMap<Response, Outcome>()
  readonly #known = new Map<string, Known>()

  constructor(parts: HttpAsksParts) {
    this.#parts = parts
    this.#asks = new HttpCallMaker(parts)
    this.#passed = new PassedCalls(parts)
  }

  /** How a call was answered, by its response, or by the error it ended in. */
  outcomeOf(response: unknown): Outcome | undefined {
    return this.#outcomes.get(response as Response) ?? this.#parts.runner.outcomeOf(response)
  }

  fetch(input: Parameters<Fetch>[0], init?: Parameters<Fetch>[1], wanted?: CallOptions): Promise<Response> {
    const known = init === undefined && typeof input === 'string' ? this.#known.get(input) : undefined
    return (known && this.#freshFromStore(known)) ?? this.#fetch(input, init, wanted)
  }

  /** The short way of a plain GET to a fresh answer that its store gives at once. */
  #freshFromStore(known: Known): Promise<Response> | undefined {
    const { store, clock, events } = this.#parts
    const { endpoint, freshForMs, line, key } = known
    const began = clock.ticks()
    const entry = store.entries.get(key)
    const now = clock.now()
    if (!entry || entry instanceof Promise || isSignpost(entry.head) || !isFresh(entry, freshForMs, now)) return undefined
    if (entry.freshUntil - now <= endpoint.refreshAheadMs || events.callsHeard) return undefined
    const answer = this.#readable(known, entry)
    if (!answer) return undefined
    const response = this.#respond(answer, storedOutcome(endpoint, entry, now, { how: 'hit', reason: 'fresh' }), now, known)
    countHit(line.at(now), entry, now, clock.ticks() - began)
    return Promise.resolve(response)
  }

  #readable(known: Known, entry: Entry): CompleteAnswer | undefined {
    try {
      return answerOfEntry(entry)
    } catch (error) {
      this.#parts.runner.corrupt(known, entry.key, error)
      return undefined
    }
  }

  /** What a call would do now; nothing is called, stored or counted. */
  async explain(input: Parameters<Fetch>[0], init: Parameters<Fetch>[1]): Promise<Explanation> {
    const matched = this.#asks.match(input, init)
    const { method, url, provider, endpoint, mode } = matched
    const nearMisses = this.#parts.rules.nearMisses(method, url)
    const where = { provider: provider?.name ?? null, endpoint: endpoint?.name ?? null, nearMisses, mode }
    const { ask } = await this.#asks.ask(matched, input, init)
    if (!ask || !provider || !endpoint) {
      const reason = mode === 'offline' ? 'offline' : whyNoRule(endpoint)
      const would = mode === 'offline' ? 'refuse' : 'pass'
      return {
        ...where,
        key: null,
        leftOut: [],
        stored: null,
        would,
        reason,
        because: reasons[reason],
        blockedBy: null,
        olderAnswerOnFailure: false,
      }
    }
    const refusal = endpoint.mode === 'measure' ? undefined : await this.#parts.gate.look(ask)
    const { found, decision, onFailure } = await this.#parts.runner.consider(ask)
    const { entry } = found
    return {
      ...where,
      key: ask.key,
      leftOut: leftOut(provider, endpoint.keying, url),
      stored: entry
        ? {
            key: found.key,
            storedAt: entry.storedAt,
            ageMs: ageMs(entry, this.#parts.clock.now()),
            freshUntil: entry.freshUntil,
            freshBy: answerOfEntry(entry).freshBy ?? 'rule',
            refreshableUntil: entry.refreshableUntil,
            usableUntil: entry.usableUntil,
            mustRevalidate: entry.mustRevalidate,
            bytes: entry.body.byteLength,
          }
        : null,
      would: decision.do,
      reason: decision.reason,
      because: reasons[decision.reason],
      blockedBy: refusal ? { why: refusal.why, what: refusal.what, until: refusal.at } : null,
      olderAnswerOnFailure: onFailure.do === 'serve',
    }
  }

  async #fetch(input: Parameters<Fetch>[0], init: Parameters<Fetch>[1], wanted: CallOptions | undefined): Promise<Response> {
    const matched = this.#asks.match(input, init)
    const { method, url, endpoint } = matched
    const { ask, unread } = await this.#asks.ask(matched, input, init, wanted)
    if (!ask || !endpoint) return this.#unruled(matched, input, unread, wanted)
    const recipient: Recipient = { method, url: withoutFragment(url), signal: ask.signal }
    if (init === undefined && typeof input === 'string') this.#remember(input, ask, matched, recipient)
    try {
      const { answer, outcome } = await this.#parts.runner.run(ask)
      const now = this.#parts.clock.now()
      const isStored = outcome.how === 'hit' || outcome.how === 'stale'
      const asked = ask.excerpt && isStored ? excerpted(answer as CompleteAnswer, now - outcome.ageMs, ask.header) : answer
      return this.#respond(asked, outcome, now, recipient)
    } catch (error) {
      if (!(error instanceof NothingStoredError)) throw error
      if (ask.directives.storedOnly === 'error') throw new TypeError(error.message, { cause: error })
      return this.#gatewayTimeout(endpoint, recipient)
    }
  }

  /** A request that no rule holds for: passed on, and refused where nothing may be called. */
  async #unruled(
    matched: Matched,
    input: Parameters<Fetch>[0],
    init: Parameters<Fetch>[1],
    wanted: CallOptions | undefined,
  ): Promise<Response> {
    const { provider, endpoint, mode, line } = matched
    if (mode === 'offline') {
      line.at(this.#parts.clock.now()).errored++
      throw new OfflineError(provider?.name ?? unmatched, endpoint?.name ?? unmatched)
    }
    const { response, outcome } = await this.#parts.runner.track(this.#passed.pass(matched, input, init, wanted))
    this.#outcomes.set(response, outcome)
    return response
  }

  /** The answer to a request for stored answers only, where there is none (RFC 9111 section 5.2.1.7). */
  #gatewayTimeout({ provider, name }: Endpoint, recipient: Recipient): Response {
    const outcome: Outcome = { provider, endpoint: name, how: 'refused', reason: 'stored-only-asked', ageMs: 0 }
    const answer: HttpAnswer = { status: 504, statusText: 'Gateway Timeout', fields: [], body: new Uint8Array() }
    return this.#respond(answer, outcome, this.#parts.clock.now(), recipient)
  }

  #respond(answer: HttpAnswer, outcome: Outcome, now: number, recipient: Recipient): Response {
    const response = toResponse(answer, outcome, now, recipient)
    this.#outcomes.set(response, outcome)
    return response
  }

  /** A relative URL means another place on another page, and functions of the rule may look at more than the URL. */
  #remember(input: string, { key, endpoint, line }: HttpAsk, { method, mode, endpoint: matched }: Matched, recipient: Recipient): void {
    const { freshForMs, slidingMs } = endpoint
    const plain = URL.canParse(input) && method === 'GET' && mode !== 'measure' && !matched?.exceptRequest
    if (!plain || matched?.keying.by || matched?.keying.per || slidingMs !== undefined || freshForMs === undefined) return
    if (this.#known.size >= mostKnown) this.#known.clear()
    this.#known.set(input, { ...recipient, endpoint, freshForMs, line, key })
  }
}

function withoutFragment({ href, hash }: URL): string {
  return hash === '' ? href : href.slice(0, -hash.length)
}
