import { isFresh } from '../core/decide/decide.js'
import type { Explanation } from '../core/decide/explanation.js'
import { resultOfStatus } from '../core/decide/keep.js'
import type { Mode } from '../core/decide/mode.js'
import type { Outcome } from '../core/decide/outcome.js'
import { reasons } from '../core/decide/reasons.js'
import { OfflineError, UpstreamTimeoutError } from '../core/errors.js'
import { reusableFields } from '../core/http/stored-head.js'
import { isVariantIndex } from '../core/http/vary.js'
import { unmatched } from '../core/ledger/ledger-row.js'
import { costOfCall } from '../core/money/flat-price.js'
import { OncePerEpisode } from '../core/once-per-episode.js'
import type { Clock } from '../core/ports/clock.js'
import type { Store } from '../core/ports/store.js'
import { digestOf } from '../core/rules/digest.js'
import type { Endpoint, Provider, RequestEndpoint } from '../core/rules/endpoint.js'
import type { KeyedRequest } from '../core/rules/keying.js'
import { leftOut, requestKey } from '../core/rules/request-key.js'
import type { Match, RuleBook } from '../core/rules/rule-book.js'
import type { Ask } from './ask.js'
import type { Books, Line } from './books.js'
import { type CallRunner, storedOutcome } from './call-runner.js'
import { bytesOf, mayCarryConditions, specialOf } from './http-request.js'
import { type Fetch, fetchOrRenew } from './http-upstream.js'
import { answerOfEntry, type HttpAnswer, toResponse } from './response-value.js'

export interface HttpCallsParts {
  readonly rules: RuleBook
  readonly store: Store
  readonly clock: Clock
  readonly mode: Mode
  readonly books: Books
  readonly runner: CallRunner
  readonly fetch: Fetch
  readonly warn: (message: string) => void
}

/** A plain GET by URL, once its endpoint and key are known. */
interface Known {
  readonly endpoint: Endpoint
  readonly freshForMs: number
  readonly line: Line
  readonly key: string
}

/** A request, with what covers it. */
interface Matched extends Match {
  readonly method: string
  readonly url: URL
  readonly mode: Mode
}

/** Plain GETs whose endpoint and key are remembered, at the most. */
const mostKnown = 1_000

/** Answers HTTP requests: finds the endpoint and the key, hands the call to the runner and makes a `Response` of its answer. */
export class HttpCalls {
  readonly #parts: HttpCallsParts
  readonly #outcomes = new WeakMap<Response, Outcome>()
  readonly #known = new Map<string, Known>()
  readonly #keying: OncePerEpisode

  constructor(parts: HttpCallsParts) {
    this.#parts = parts
    this.#keying = new OncePerEpisode(parts.warn)
  }

  outcomeOf(response: Response): Outcome | undefined {
    return this.#outcomes.get(response)
  }

  fetch(input: Parameters<Fetch>[0], init?: Parameters<Fetch>[1]): Promise<Response> {
    const known = init === undefined && typeof input === 'string' ? this.#known.get(input) : undefined
    return (known && this.#freshFromStore(known)) ?? this.#fetch(input, init)
  }

  /** The short way of a plain GET to a fresh answer that its store gives at once. */
  #freshFromStore({ endpoint, freshForMs, line, key }: Known): Promise<Response> | undefined {
    const { store, clock } = this.#parts
    const began = clock.ticks()
    const entry = store.get(key)
    const now = clock.now()
    if (!entry || entry instanceof Promise || isVariantIndex(entry.head) || !isFresh(entry, freshForMs, now)) return undefined
    const response = this.#respond(answerOfEntry(entry), storedOutcome(endpoint, entry, now, { how: 'hit', reason: 'fresh' }), now)
    const tally = line.at(now)
    tally.hit++
    tally.latency.add(clock.ticks() - began)
    return Promise.resolve(response)
  }

  /** What a call would do now; nothing is called, stored or counted. */
  async explain(input: Parameters<Fetch>[0], init: Parameters<Fetch>[1]): Promise<Explanation> {
    const matched = this.#match(input, init)
    const { method, url, provider, endpoint, mode } = matched
    const nearMisses = this.#parts.rules.nearMisses(method, url)
    const where = { provider: provider?.name ?? null, endpoint: endpoint?.name ?? null, nearMisses, mode }
    const { ask } = await this.#askOf(matched, input, init)
    if (!ask || !provider || !endpoint) {
      const reason = mode === 'offline' ? 'offline' : whyNoRule(endpoint)
      const would = mode === 'offline' ? 'refuse' : 'pass'
      return { ...where, key: null, leftOut: [], stored: null, would, reason, because: reasons[reason], olderAnswerOnFailure: false }
    }
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
            ageMs: this.#parts.clock.now() - entry.storedAt,
            freshUntil: entry.freshUntil,
            usableUntil: entry.usableUntil,
            bytes: entry.body.byteLength,
          }
        : null,
      would: decision.do,
      reason: decision.reason,
      because: reasons[decision.reason],
      olderAnswerOnFailure: onFailure.do === 'serve',
    }
  }

  async #fetch(input: Parameters<Fetch>[0], init: Parameters<Fetch>[1]): Promise<Response> {
    const matched = this.#match(input, init)
    const { provider, endpoint, mode } = matched
    const { ask, unread } = await this.#askOf(matched, input, init)
    const [name, line] = [provider?.name ?? unmatched, this.#lineOf(matched)]
    if (!ask || !endpoint) {
      if (mode === 'offline') throw this.#refuse(name, endpoint?.name ?? unmatched, line)
      return this.#parts.runner.track(this.#pass(input, unread, name, endpoint, line))
    }
    const { by, per } = endpoint.keying
    const plain = init === undefined && typeof input === 'string' && URL.canParse(input) // a relative URL means another place elsewhere
    if (plain && !by && !per && matched.method === 'GET' && mode !== 'measure') {
      this.#remember(input, { endpoint, freshForMs: endpoint.freshForMs ?? 0, line, key: ask.key })
    }
    const { answer, outcome } = await this.#parts.runner.run(ask)
    return this.#respond(answer, outcome, this.#parts.clock.now())
  }

  #match(input: Parameters<Fetch>[0], init: Parameters<Fetch>[1]): Matched {
    const request = input instanceof Request ? input : undefined
    const method = (init?.method ?? request?.method ?? 'GET').toUpperCase()
    const url = new URL(request ? request.url : String(input), (globalThis as { location?: { href: string } }).location?.href)
    const match = this.#parts.rules.match(method, url)
    return { ...match, method, url, mode: match.endpoint?.mode ?? match.provider?.mode ?? this.#parts.mode }
  }

  #lineOf({ provider, endpoint, mode }: Matched): Line {
    return this.#parts.books.line(provider?.name ?? unmatched, endpoint?.name ?? unmatched, mode)
  }

  /** What the runner needs to answer a request, or, where no rule holds for it, only what sends it on with its body unread. */
  async #askOf(
    matched: Matched,
    input: Parameters<Fetch>[0],
    init: Parameters<Fetch>[1],
  ): Promise<{ ask?: Ask<HttpAnswer>; unread: Parameters<Fetch>[1] }> {
    const { method, url, provider, endpoint } = matched
    if (!provider || !endpoint || endpoint.freshForMs === undefined) return { unread: init }
    const request = input instanceof Request ? input : undefined
    const body = method === 'GET' ? undefined : await bytesOf(input, init)
    const headers = body?.headers ?? new Headers(init?.headers ?? request?.headers)
    const keyed: KeyedRequest = { method, url, header: (field) => headers.get(field), body: body?.bytes }
    const key = this.#keyOf(provider, endpoint, keyed)
    const unread = body ? { ...init, body: body.bytes } : init
    if (key === undefined) return { unread }
    const ask: Ask<HttpAnswer> = {
      endpoint,
      line: this.#lineOf(matched),
      key,
      variantKey: (fields) => `${key} vary:${JSON.stringify(fields.map((field) => [field, variantValue(provider, keyed, field)]))}`,
      special: specialOf(headers, input, init),
      signal: init?.signal ?? request?.signal ?? undefined,
      callUpstream: (signal, stale) => {
        const [where, how] = body ? body.resend(signal) : ([input, { ...init, headers, signal }] as const)
        return fetchOrRenew(this.#parts.fetch, endpoint, where, how, stale && mayCarryConditions(url) ? answerOfEntry(stale) : undefined)
      },
      revive: answerOfEntry,
      copy: (shared) => ({ ...shared, fields: reusableFields(shared.fields) }),
    }
    return { ask, unread }
  }

  /** The key of a request, or undefined where a function of the configuration fails: then the call goes by as if it had no rule. */
  #keyOf(provider: Provider, endpoint: RequestEndpoint, request: KeyedRequest): string | undefined {
    try {
      const key = requestKey(provider, endpoint.keying, request)
      this.#keying.fine()
      return key
    } catch (cause) {
      this.#keying.trouble(`${endpoint.provider}.${endpoint.name} gives no key, its calls go upstream until it does`, cause)
      return undefined
    }
  }

  #refuse(provider: string, endpoint: string, line: Line): OfflineError {
    line.at(this.#parts.clock.now()).letDown++
    return new OfflineError(provider, endpoint)
  }

  /** Sends a call on untouched and counts it. An endpoint's timeout holds until the answer begins. */
  async #pass(
    input: Parameters<Fetch>[0],
    init: Parameters<Fetch>[1],
    provider: string,
    endpoint: Endpoint | undefined,
    line: Line,
  ): Promise<Response> {
    const { clock } = this.#parts
    const began = clock.ticks()
    const timed = endpoint && this.#timed(endpoint, input, init)
    let result: ReturnType<typeof resultOfStatus> = 'failed'
    let status: number | undefined
    try {
      const response = await this.#parts.fetch(input, timed?.init ?? init)
      status = response.status
      result = resultOfStatus(status)
      this.#outcomes.set(response, {
        provider,
        endpoint: endpoint?.name ?? unmatched,
        how: 'passed',
        reason: whyNoRule(endpoint),
        fwd: 'bypass',
        upstreamStatus: response.status,
        ageMs: 0,
        cost: endpoint && costOfCall(endpoint, response.status === 304 ? 'unmodified' : result),
      })
      return response
    } finally {
      timed?.cancel()
      const tally = line.at(clock.now())
      tally[result === 'answered' ? 'forwarded' : 'letDown']++
      tally[result === 'answered' ? 'upAnswered' : result === 'refused' ? 'upRefused' : 'upFailed']++
      if (status === 304) tally.upUnmodified++
      tally.latency.add(clock.ticks() - began)
    }
  }

  /** The options of a call with a signal that also aborts when the endpoint's time is over. */
  #timed({ provider, name, timeoutMs }: Endpoint, input: Parameters<Fetch>[0], init: Parameters<Fetch>[1]) {
    const overdue = new AbortController()
    const cancel = this.#parts.clock.later(timeoutMs, () => overdue.abort(new UpstreamTimeoutError(provider, name, timeoutMs)))
    const own = init?.signal ?? (input instanceof Request ? input.signal : undefined)
    return { cancel, init: { ...init, signal: own ? AbortSignal.any([own, overdue.signal]) : overdue.signal } }
  }

  #respond(answer: HttpAnswer, outcome: Outcome, now: number): Response {
    const response = toResponse(answer, outcome, now)
    this.#outcomes.set(response, outcome)
    return response
  }

  #remember(url: string, known: Known): void {
    if (this.#known.size >= mostKnown) this.#known.clear()
    this.#known.set(url, known)
  }
}

/** Why no rule holds for a request that its endpoint, if it has one, gave no key. */
function whyNoRule(endpoint: Endpoint | undefined): 'no-endpoint' | 'not-reusable' | 'no-key' {
  if (!endpoint) return 'no-endpoint'
  return endpoint.freshForMs === undefined ? 'not-reusable' : 'no-key'
}

/** A field's value as it stands in the key of a variant: those that say who calls only as a digest. */
function variantValue({ callerHeaders }: Provider, { header }: KeyedRequest, field: string): string | null {
  const value = header(field)
  return value !== null && callerHeaders.includes(field) ? digestOf(value) : value
}
