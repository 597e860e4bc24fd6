import { isFresh, type SpecialRequest } from '../core/decide/decide.js'
import { resultOfStatus, whyNotKept } from '../core/decide/keep.js'
import type { Mode } from '../core/decide/mode.js'
import type { Outcome } from '../core/decide/outcome.js'
import { BrokenBodyError, OfflineError, UpstreamTimeoutError } from '../core/errors.js'
import { fieldsOfDecoded, reusableFields, type StoredHead } from '../core/http/stored-head.js'
import { conditionsOf, freshenedFields, speaksOf } from '../core/http/validators.js'
import { isVariantIndex, varyOf } from '../core/http/vary.js'
import { unmatched } from '../core/ledger/ledger-row.js'
import { OncePerEpisode } from '../core/once-per-episode.js'
import type { Clock } from '../core/ports/clock.js'
import type { Store } from '../core/ports/store.js'
import { digestOf } from '../core/rules/digest.js'
import type { Endpoint, Provider, RequestEndpoint } from '../core/rules/endpoint.js'
import type { AnswerFacts } from '../core/rules/freshness.js'
import type { KeyedRequest } from '../core/rules/keying.js'
import { requestKey } from '../core/rules/request-key.js'
import type { RuleBook } from '../core/rules/rule-book.js'
import type { Books, Line } from './books.js'
import { type CallRunner, type Fetched, type Kept, storedOutcome } from './call-runner.js'
import { answerOfEntry, fieldsOf, type HttpAnswer, toResponse } from './response-value.js'

export type Fetch = typeof globalThis.fetch

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

  async #fetch(input: Parameters<Fetch>[0], init: Parameters<Fetch>[1]): Promise<Response> {
    const request = input instanceof Request ? input : undefined
    const method = (init?.method ?? request?.method ?? 'GET').toUpperCase()
    const url = new URL(request ? request.url : String(input), (globalThis as { location?: { href: string } }).location?.href)
    const headers = new Headers(init?.headers ?? request?.headers)
    const { provider, endpoint } = this.#parts.rules.match(method, url)
    const name = provider?.name ?? unmatched
    const mode = endpoint?.mode ?? provider?.mode ?? this.#parts.mode
    const line = this.#parts.books.line(name, endpoint?.name ?? unmatched, mode)
    if (!provider || !endpoint || endpoint.freshForMs === undefined) {
      if (mode === 'offline') throw this.#refuse(name, endpoint?.name ?? unmatched, line)
      return this.#pass(input, init, name, endpoint, line)
    }
    const special = specialOf(headers, cacheOption(init) ?? cacheOption(request))
    const body = endpoint.template.method === 'GET' ? undefined : await bytesOf(input, init)
    const keyed = { method, url, header: (field: string) => (body?.headers ?? headers).get(field), body: body?.bytes }
    const key = this.#keyOf(provider, endpoint, keyed)
    if (key === undefined) return this.#pass(input, body ? { ...init, body: body.bytes } : init, name, endpoint, line)
    const { by, per } = endpoint.keying
    if (init === undefined && !by && !per && method === 'GET' && typeof input === 'string' && mode !== 'measure') {
      this.#remember(input, { endpoint, freshForMs: endpoint.freshForMs, line, key })
    }
    const { answer, outcome } = await this.#parts.runner.run<HttpAnswer>({
      endpoint,
      line,
      key,
      variantKey: (fields) => `${key} vary:${JSON.stringify(fields.map((field) => [field, variantValue(provider, keyed, field)]))}`,
      special,
      signal: init?.signal ?? request?.signal ?? undefined,
      callUpstream: (signal, stale) => {
        const [where, how] = body ? body.resend(signal) : ([input, { ...init, headers, signal }] as const)
        return this.#askWhetherItHolds(endpoint, where, how, stale && mayCarryConditions(url) ? answerOfEntry(stale) : undefined)
      },
      revive: answerOfEntry,
      copy: (shared) => ({ ...shared, fields: reusableFields(shared.fields) }),
    })
    return this.#respond(answer, outcome, this.#parts.clock.now())
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
    try {
      const response = await this.#parts.fetch(input, timed?.init ?? init)
      result = resultOfStatus(response.status)
      this.#outcomes.set(response, {
        provider,
        endpoint: endpoint?.name ?? unmatched,
        how: 'passed',
        reason: endpoint ? 'not-reusable' : 'no-endpoint',
        fwd: 'bypass',
        upstreamStatus: response.status,
        ageMs: 0,
        cost: endpoint?.price,
      })
      return response
    } finally {
      timed?.cancel()
      const tally = line.at(clock.now())
      tally[result === 'answered' ? 'forwarded' : 'letDown']++
      tally[result === 'answered' ? 'upAnswered' : result === 'refused' ? 'upRefused' : 'upFailed']++
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

  /** Calls upstream, asking whether a stale answer still holds where it has validators (RFC 9111 section 4.3). */
  async #askWhetherItHolds(
    endpoint: Endpoint,
    input: Parameters<Fetch>[0],
    init: RequestInit,
    stale: HttpAnswer | undefined,
  ): Promise<Fetched<HttpAnswer>> {
    const conditions = stale ? conditionsOf(stale.fields) : []
    if (!stale || conditions.length === 0) return this.#callUpstream(endpoint, input, init)
    const headers = new Headers(init.headers as Headers)
    for (const [name, value] of conditions) headers.set(name, value)
    const fetched = await this.#callUpstream(endpoint, input, { ...init, headers })
    if (fetched.result !== 'answered' || fetched.status !== 304) return fetched
    if (!speaksOf(stale.fields, fetched.answer.fields)) {
      const whole = await this.#callUpstream(endpoint, input, init)
      return { ...whole, earlier: 1 }
    }
    const answer = { ...stale, fields: freshenedFields(stale.fields, reusableFields(fetched.answer.fields)) }
    return { result: 'answered', answer, status: 304, vary: varyOf(answer.fields), keep: () => keptForm(answer) }
  }

  async #callUpstream(endpoint: Endpoint, input: Parameters<Fetch>[0], init: RequestInit): Promise<Fetched<HttpAnswer>> {
    let response: Response
    try {
      response = await this.#parts.fetch(input, init)
    } catch (error) {
      return { result: 'failed', error }
    }
    let body: Uint8Array
    try {
      body = new Uint8Array(await response.arrayBuffer())
    } catch (cause) {
      return { result: 'failed', error: new BrokenBodyError(endpoint.provider, endpoint.name, { cause }) }
    }
    const { status, statusText } = response
    const answer: HttpAnswer = { status, statusText, fields: fieldsOfDecoded(fieldsOf(response.headers)), body }
    const result = resultOfStatus(status)
    const vary = varyOf(answer.fields)
    if (result !== 'answered') return { result, answer, status, vary }
    const keep = whyNotKept(status, vary) ?? (() => keptForm(answer))
    return { result, answer, status, vary, keep }
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

/** A field's value as it stands in the key of a variant: those that say who calls only as a digest. */
function variantValue({ callerHeaders }: Provider, { header }: KeyedRequest, field: string): string | null {
  const value = header(field)
  return value !== null && callerHeaders.includes(field) ? digestOf(value) : value
}

/** In a browser a condition makes a cross-origin request ask for leave first, which could fail where the plain request would not. */
function mayCarryConditions(url: URL): boolean {
  const { location } = globalThis as { location?: { origin: string } }
  return location === undefined || location.origin === url.origin
}

/** The bytes of a request's body, and the call that sends them: a body can be read only once. */
async function bytesOf(input: Parameters<Fetch>[0], init: Parameters<Fetch>[1]) {
  const request = new Request(input, init)
  const { url, method, headers } = request
  const bytes = new Uint8Array(await request.arrayBuffer())
  const resend = (signal: AbortSignal) => [url, { ...init, method, headers, body: bytes, signal }] as const
  return { bytes, headers, resend }
}

function keptForm({ status, statusText, fields, body }: HttpAnswer): Kept {
  const head: StoredHead = { status, statusText, fields: reusableFields(fields) }
  const facts: AnswerFacts = {
    status,
    header: (name) => new Headers(fields as [string, string][]).get(name),
    json: () => JSON.parse(new TextDecoder().decode(body)),
  }
  return { head: JSON.stringify(head), body, memo: { ...head, body }, facts }
}

/** The standard `cache` option of fetch, which Node's own types leave out. */
function cacheOption(options: object | undefined): string | undefined {
  return (options as { cache?: string } | undefined)?.cache
}

/** What in a request keeps it from being answered out of the store. */
function specialOf(headers: Headers, cache: string | undefined): SpecialRequest | undefined {
  if (headers.has('range')) return 'range-asked'
  if (['if-none-match', 'if-modified-since', 'if-match', 'if-unmodified-since', 'if-range'].some((name) => headers.has(name)))
    return 'condition-asked'
  if (cache === 'no-store' || cache === 'reload' || cache === 'no-cache') return 'reload-asked'
  if (/\bno-(cache|store)\b/i.test(`${headers.get('cache-control')} ${headers.get('pragma')}`)) return 'reload-asked'
  return undefined
}
