import type { Bypass, Excerpt } from '../../core/decide/decide.js'
import type { RequestEndpoint } from '../../core/endpoints/endpoint.js'
import type { CallOptions } from '../../core/endpoints/options.js'
import type { Match } from '../../core/endpoints/rule-book.js'
import { narrowed, type SearchVariance } from '../../core/http/no-vary-search.js'
import { noDirectives, type RequestDirectives } from '../../core/http/request-directives.js'
import { fieldValue } from '../../core/http/stored-head.js'
import type { Clock } from '../../core/ports/clock.js'
import type { Entry } from '../../core/ports/entry-store.js'
import type { Maybe } from '../../core/ports/maybe.js'
import { compileCredentials } from '../../core/rules/credentials.js'
import type { AnswerFacts } from '../../core/rules/freshness.js'
import type { Keying, SentRequest } from '../../core/rules/keying.js'
import { type LabelFacts, labelsBefore, labelsOf } from '../../core/rules/labels.js'
import { normalisePercent } from '../../core/rules/normalise-url.js'
import { Redaction } from '../../core/rules/redaction.js'
import { fieldInKey, placeOfRequest, requestKey } from '../../core/rules/request-key.js'
import { parameterValues, segmentsOf } from '../../core/rules/request-template.js'
import { sentRequest } from '../../core/rules/sent-request.js'
import type { AnswerForm } from '../call/answer-form.js'
import { type Call, type CallTerms, termsOf } from '../call/call.js'
import type { Fetched } from '../call/fetched.js'
import type { Relaying } from '../call/relaying.js'
import type { Cancellation } from '../cancellation.js'
import type { EndpointCounter } from '../ledger/endpoint-counter.js'
import { headOnly } from './answer-facts.js'
import { type ComparingParts, compareHead } from './compare-head.js'
import { canExcerpt } from './excerpt.js'
import { answerOfEntry, type HttpAnswer } from './http-answer.js'
import { mayCarryConditions, type SentFields } from './http-request.js'
import { type Fetch, fetchAnswer, fetchOrRenew, type UpstreamRequest } from './http-upstream.js'
import { type Invalidation, isUnsafe } from './invalidation.js'
import { relayingBy } from './relaying.js'
import type { Send, SentBy } from './sent-by.js'
import { SharedBody } from './shared-body.js'
import type { Asked } from './spoken-calls.js'

/** A request, with what covers it. */
export interface Matched extends Match {
  readonly method: string
  readonly url: URL
  /** The endpoint, or what stands for none. */
  readonly rule: RequestEndpoint
  readonly counter: EndpointCounter
}

export interface HttpCallParts extends ComparingParts {
  /** Whether calls are sent by the `fetch` of the runtime, which takes what the Fetch Standard takes. */
  readonly isFetchOfRuntime: boolean
  readonly fetch: Fetch
  readonly clock: Clock
  readonly invalidation: Invalidation
  readonly trouble: (what: string, error: unknown) => void
}

/** What `fetch` is to be called with, and what of the request its rule has to look at; without `keyed` it goes by untouched. */
export interface Sending {
  readonly headers: SentFields
  /** The call that sends it, with a signal of ours. */
  send(signal: AbortSignal): readonly [input: Parameters<Fetch>[0], init: RequestInit]
  readonly signal: AbortSignal | undefined
  readonly sentBy?: SentBy | undefined
  /** What it says in the protocol of its endpoint. */
  readonly asked?: Asked | undefined
  /** The request as functions see it, where it is not keyed and has a body. */
  readonly request?: SentRequest | undefined
  readonly keyed?: {
    readonly request: SentRequest
    readonly key: string
    /** What its options add to its key. */
    readonly options: string
    readonly directives: RequestDirectives
    readonly excerpt: Excerpt | undefined
    /** What `per` returns, where the endpoint counts by it. */
    readonly tenant: string | undefined
  }
  readonly bypass: Bypass | undefined
}

/** One HTTP request, as the engine answers it. */
export class HttpCall implements Call<HttpAnswer> {
  readonly endpoint: RequestEndpoint
  readonly counter: EndpointCounter
  readonly terms: CallTerms
  readonly form: AnswerForm<HttpAnswer>
  readonly bypass: Bypass | undefined
  readonly path: string | undefined
  readonly #parts: HttpCallParts
  readonly #matched: Matched
  readonly #sending: Sending
  readonly #redaction: Redaction

  constructor(parts: HttpCallParts, matched: Matched, sending: Sending, form: AnswerForm<HttpAnswer>, wanted: CallOptions | undefined) {
    const { rule, url } = matched
    this.#parts = parts
    this.#matched = matched
    this.#sending = sending
    this.#redaction = new Redaction(matched.provider?.credentials ?? usualCredentials, { url, fields: sending.headers })
    this.endpoint = rule
    this.counter = matched.counter
    this.terms = termsOf(rule, wanted, sending.signal)
    this.form = form
    this.bypass = sending.bypass ?? (this.terms.bypass ? 'no-store-asked' : undefined)
    this.path = rule.template.path.at(-1)?.kind === 'rest' ? url.pathname : undefined
  }

  get key(): string | undefined {
    return this.#sending.keyed?.key
  }

  get countedFor(): string | undefined {
    const { countBy } = this.endpoint
    return countBy === 'label' ? this.terms.label : this.#sending.keyed?.tenant
  }

  get isPassed(): boolean {
    return this.#sending.keyed === undefined
  }

  get excerpt(): Excerpt | undefined {
    return this.#sending.keyed?.excerpt
  }

  get directives(): RequestDirectives {
    const said = this.#sending.keyed?.directives ?? noDirectives
    return this.terms.reload ? { ...said, ask: 'reload' } : said
  }

  get labels(): readonly string[] | null | undefined {
    const labels = labelsBefore(this.endpoint.labels, () => this.#labelFacts())
    return labels === null ? null : labels?.map((label) => this.#redaction.text(label))
  }

  /** What labels are made of, but for the answer. */
  #labelFacts(): LabelFacts {
    const { method, url, provider, rule } = this.#matched
    const segments = segmentsOf(normalisePercent(url.pathname)).slice(provider?.base?.segments.length)
    const { keyed, request: own } = this.#sending
    const request = keyed?.request ?? own ?? sentRequest({ method, url, header: (name) => this.header(name) })
    return { request, path: parameterValues(rule.template, segments), query: url.searchParams }
  }

  /** Without the credentials of the request. Throws what a function of the rule throws. */
  #labelsBy(sources: RequestEndpoint['labels'] & object, answer: AnswerFacts): readonly string[] {
    return labelsOf(sources, { ...this.#labelFacts(), answer }).map((label) => this.#redaction.text(label))
  }

  get isRepeatable(): boolean {
    return this.endpoint.repeatable && !this.isPassed
  }

  get sent(): { method: string; url: string } {
    const { method, url, provider } = this.#matched
    return { method, url: this.#redaction.url(provider ? url.href : `${url.origin}${url.pathname}`) }
  }

  header(name: string): string | null {
    return this.#sending.headers.get(name)
  }

  get search(): { readonly signpostKey: string; key(variance: SearchVariance): string } | undefined {
    if (this.isPassed) return undefined
    const { keying } = this.endpoint
    return {
      signpostKey: this.#signpostKey(keying),
      key: (variance) => `${this.#keyUnder(narrowed(keying, variance))} search:${JSON.stringify(variance)}`,
    }
  }

  /** The same for all callers, so that whoever writes to the URL finds it. */
  #signpostKey(keying: Keying): string {
    const { keyed } = this.#sending
    const { provider } = this.#matched
    return keyed && provider ? `${placeOfRequest(provider, { ...keying, usesParameter: () => false }, keyed.request)} search` : ''
  }

  #keyUnder(keying: Keying): string {
    const { keyed } = this.#sending
    const { provider } = this.#matched
    if (!keyed || !provider) return ''
    return `${requestKey(provider, keying, keyed.request)}${keyed.options}`
  }

  variantKey(base: string, fields: readonly string[]): string {
    const values = fields.map((field) => [field, fieldInKey(field, this.header(field))])
    return `${base} vary:${JSON.stringify(values)}`
  }

  canServe(entry: Entry): boolean {
    return this.excerpt === undefined || canExcerpt(this.excerpt, (name) => this.header(name), entry)
  }

  async callUpstream(ending: Cancellation, toRevalidate: Entry | undefined, leave: () => Maybe<void>): Promise<Fetched<HttpAnswer>> {
    const { method, url } = this.#matched
    const call = this.#request(ending, leave)
    if (!this.excerpt) {
      const mayAsk = toRevalidate && mayCarryConditions(url)
      const fetched = await fetchOrRenew(call, mayAsk ? answerOfEntry(toRevalidate) : undefined)
      const mayWrite = isUnsafe(method) && this.#sending.asked?.call.isQuery !== true
      if (mayWrite && this.endpoint.freshForMs === undefined) await this.#afterWrite(fetched)
      return fetched
    }
    const fetched = await fetchAnswer(call)
    if (this.excerpt === 'head-asked' && fetched.result === 'answered') await compareHead(this.#parts, this, call, fetched.answer)
    return fetched
  }

  #request(ending: Cancellation, leave: () => Maybe<void>): UpstreamRequest {
    const { clock, trouble } = this.#parts
    const fetch = this.#fetch()
    const [input, init] = this.#sending.send(ending.signal)
    const { labels } = this.endpoint
    return {
      ...{ fetch, clock, trouble, input, init, ending, leave },
      endpoint: this.endpoint,
      method: this.#matched.method,
      url: this.#matched.url,
      redaction: this.#redaction,
      labels: labels && ((answer) => this.#labelsBy(labels, answer)),
      authorized: this.#sending.headers.has('authorization'),
      asked: this.#sending.asked,
    }
  }

  /** What sends it: where a program is covered, that has a say in it. */
  #fetch(): Send {
    const { fetch, isFetchOfRuntime } = this.#parts
    const { sentBy } = this.#sending
    return sentBy ? (...request) => sentBy(fetch, !isFetchOfRuntime, ...request) : fetch
  }

  /** An answer with the id of this call, where it has that of another. */
  ownForm(answer: HttpAnswer): HttpAnswer {
    const { asked } = this.#sending
    const bytes = answer.body instanceof SharedBody ? answer.body.bytes : answer.body
    if (asked?.call.id === undefined || bytes === undefined) return answer
    const reply = new TextDecoder().decode(bytes)
    const own = asked.reader.withIdOf(asked.call, reply)
    if (own === reply) return answer
    return { ...answer, body: new TextEncoder().encode(own), fields: answer.fields.filter(([name]) => !ofBytes.includes(name)) }
  }

  get relaying(): Relaying<HttpAnswer> | undefined {
    return this.isPassed || this.excerpt || this.#sending.asked ? undefined : relayingBy((ending) => this.#request(ending, () => undefined))
  }

  /** What a request changed that was answered is out of date. */
  async #afterWrite(fetched: Fetched<HttpAnswer>): Promise<void> {
    const { invalidation, trouble } = this.#parts
    if (!('answer' in fetched) || fetched.answer.status < 200 || fetched.answer.status >= 400) return
    const { fields } = fetched.answer
    const { invalidates } = this.endpoint
    try {
      // operations have one URL in common, which says nothing of what they change
      if (!this.#sending.asked) await invalidation.after(this.#matched.url, (name) => fieldValue(fields, name))
      if (invalidates) await invalidation.of(this.#labelsBy(invalidates, headOnly(fetched.answer)))
    } catch (error) {
      trouble('what a write changed cannot be invalidated', error)
    }
  }
}

/** Response fields that hold for the bytes of a body. */
const ofBytes = ['content-length', 'content-digest', 'repr-digest', 'digest', 'content-md5', 'etag']

/** For calls to no known provider. */
export const usualCredentials = compileCredentials({})
