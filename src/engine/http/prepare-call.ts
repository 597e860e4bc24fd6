import { unknownProvider } from '../../core/endpoints/compile.js'
import type { Provider, RequestEndpoint, Spoken } from '../../core/endpoints/endpoint.js'
import type { CallOptions, Refusals } from '../../core/endpoints/options.js'
import type { RuleBook } from '../../core/endpoints/rule-book.js'
import { shown } from '../../core/errors/shown.js'
import { reusableFields } from '../../core/http/stored-head.js'
import type { Maybe } from '../../core/ports/maybe.js'
import type { ProtocolCall } from '../../core/protocols/protocol.js'
import type { SentRequest } from '../../core/rules/keying.js'
import type { Mode } from '../../core/rules/mode.js'
import { Redaction } from '../../core/rules/redaction.js'
import { sentRequest } from '../../core/rules/sent-request.js'
import type { AnswerForm } from '../call/answer-form.js'
import type { EndpointCounter } from '../ledger/endpoint-counter.js'
import type { LedgerWriter } from '../ledger/ledger-writer.js'
import { Batch, type BatchParts } from './batch.js'
import { callOptionsOf } from './call-options.js'
import { excerptOf } from './excerpt.js'
import { answerOfEntry, fallbackAnswer, type HttpAnswer } from './http-answer.js'
import { HttpCall, type HttpCallParts, type Matched, type Sending, usualCredentials } from './http-call.js'
import { bypassOf, bytesOf, requestDirectivesOf, SentFields } from './http-request.js'
import type { Fetch } from './http-upstream.js'
import { assertSendable, type RequestSnapshot } from './request-snapshot.js'
import { SaidOfRequests } from './said-of-requests.js'
import { asResponse, type SentBy, sentByOf } from './sent-by.js'
import { SharedBody } from './shared-body.js'
import { type Asked, callsIn, ruleFor } from './spoken-calls.js'
import { UnknownDocuments } from './unknown-documents.js'

export interface PrepareCallParts extends HttpCallParts {
  readonly rules: RuleBook
  readonly mode: Mode
  readonly refusals: Refusals
  readonly ledger: LedgerWriter
  readonly warn: (message: string) => void
}

/** A request with what covers it, and how it is sent. */
export interface Prepared {
  readonly matched: Matched
  readonly sending: Sending
  readonly batch?: PreparedBatch
}

/** The calls of a batch, each with what holds for it, and what sends them. */
export interface PreparedBatch {
  readonly calls: readonly Prepared[]
  readonly parts: Omit<BatchParts, 'fetch'>
  readonly sentBy: SentBy | undefined
}

/** A request, and what covers it. */
interface Covered {
  readonly sent: RequestSnapshot
  readonly signal: AbortSignal | undefined
  readonly provider: Provider
  readonly endpoint: RequestEndpoint
  readonly asked?: Asked | undefined
}

type ReadBody = Awaited<ReturnType<typeof bytesOf>>

const encoder = new TextEncoder()

/** An answer that is known, in place of one from upstream. `at`: when it came, milliseconds since 1970-01-01T00:00Z; default: now. */
interface KnownAnswer {
  readonly fetch: Fetch
  readonly at: number | undefined
}

function partsFor(parts: PrepareCallParts, { fetch, at }: KnownAnswer): HttpCallParts {
  const { clock } = parts
  if (at === undefined) return { ...parts, fetch }
  return { ...parts, fetch, clock: { now: () => at, ticks: () => clock.ticks(), later: (...args) => clock.later(...args) } }
}

/** Makes calls of what `fetch` is called with. */
export class CallPreparation {
  readonly #parts: PrepareCallParts
  readonly #said: SaidOfRequests
  readonly #unknown: RequestEndpoint
  readonly #forms = new Map<RequestEndpoint, AnswerForm<HttpAnswer>>()
  readonly #counters = new Map<RequestEndpoint, EndpointCounter>()
  readonly #documents: UnknownDocuments

  constructor(parts: PrepareCallParts) {
    this.#parts = parts
    this.#said = new SaidOfRequests(parts.warn)
    this.#documents = new UnknownDocuments(parts.warn)
    this.#unknown = unknownProvider({ mode: parts.mode, sets: {}, refusals: parts.refusals })
  }

  #match({ input, init }: RequestSnapshot): Matched {
    const { rules } = this.#parts
    const isRequest = input instanceof Request
    const method = (isRequest ? input.method : (init?.method ?? 'GET')).toUpperCase()
    const url = urlOf(isRequest ? input.url : input)
    const { provider, endpoint } = rules.match(method, url)
    const rule = endpoint ?? provider?.rest ?? this.#unknown
    return { provider, endpoint, method, url, rule, counter: this.#counter(rule) }
  }

  /** At once, but where a body has to be read. */
  prepare(sent: RequestSnapshot, wanted?: CallOptions): Maybe<Prepared> {
    const matched = this.#match(sent)
    if (this.#parts.isFetchOfRuntime) this.#assertSendable(sent, matched)
    const { spoken } = matched.rule
    if (spoken) return this.#spoken(matched, spoken, sent, signalOf(sent, wanted))
    const sending = this.#sending(matched, sent, signalOf(sent, wanted))
    return sending instanceof Promise ? sending.then((done) => ({ matched, sending: done })) : { matched, sending }
  }

  /** A request of an endpoint with a protocol: what holds for it depends on what it asks. */
  #spoken(matched: Matched, spoken: Spoken, sent: RequestSnapshot, signal: AbortSignal | undefined): Maybe<Prepared> {
    const { method, url, provider } = matched
    const of = (call: ProtocolCall, body: ReadBody | undefined): Prepared => {
      this.#documents.look(matched.rule, call)
      const endpoint = ruleFor(spoken, call)
      const its: Matched = { ...matched, endpoint, rule: endpoint, counter: this.#counter(endpoint) }
      const covered = { sent, signal, provider: provider as Provider, endpoint, asked: { reader: spoken.reader, call } }
      return { matched: its, sending: endpoint.isTended ? this.#keyed(its, covered, body) : this.#passing(its, covered, body) }
    }
    if (method === 'GET' || method === 'HEAD') {
      const [call] = spoken.reader.read({ method, url }, spoken.documents)?.calls ?? []
      return call ? of(call, undefined) : { matched, sending: this.#passing(matched, { sent, signal }, undefined) }
    }
    return bytesOf(sent).then((body) => {
      const request = callsIn(spoken, { method, url, ...body })
      if (request && !request.isBatch) return of(request.calls[0] as ProtocolCall, body)
      const whole = { matched, sending: this.#passing(matched, { sent, signal }, body) }
      if (!request) return whole
      const calls = request.calls.map((call) => of(call, body))
      const isShared = ({ sending, matched: its }: Prepared) => its.rule.mode === 'reuse' && sending.bypass === undefined
      const keys = calls.map((one) => (isShared(one) ? one.sending.keyed?.key : undefined))
      const parts = { reader: spoken.reader, calls: request.calls, keys, resend: body.resend }
      return { ...whole, batch: { calls, parts, sentBy: sentByOf(sent.init) } }
    })
  }

  /** A request that is sent on as it is. */
  #passing(
    { method, url, endpoint }: Matched,
    { sent, signal, asked }: Pick<Covered, 'sent' | 'signal' | 'asked'>,
    body: ReadBody | undefined,
  ): Sending {
    const { input, init } = sent
    const headers = body ? new SentFields(body.headers) : SentFields.of(sent)
    const header = (name: string) => headers.get(name)
    return {
      ...{ headers, signal, asked },
      sentBy: sentByOf(init),
      bypass: !endpoint ? 'no-endpoint' : endpoint.spoken || (asked && asked.call.isQuery !== true) ? 'may-write' : undefined,
      request: asked && sentRequest({ method, url, header, body: encoder.encode(asked.call.text), fields: headers }),
      send: (own) => body?.resend(own) ?? [input, { ...init, signal: own } as RequestInit],
    }
  }

  #assertSendable(sent: RequestSnapshot, { url, provider }: Matched): void {
    try {
      assertSendable(sent, url)
    } catch (error) {
      throw new Redaction(provider?.credentials ?? usualCredentials, { url, fields: [] }).error(error)
    }
  }

  /** `fetch`: what brings its answer, where that is no call upstream. */
  call({ matched, sending }: Prepared, wanted?: CallOptions, known?: KnownAnswer): HttpCall {
    const parts = known ? partsFor(this.#parts, known) : this.#parts
    return new HttpCall(parts, matched, sending, this.#form(matched.rule), wanted)
  }

  /** The calls of a batch, and what brings them together again. */
  batch(
    { sentBy, calls, parts }: PreparedBatch,
    wanted: CallOptions | undefined,
  ): { readonly batch: Batch; readonly calls: readonly HttpCall[] } {
    const { fetch, isFetchOfRuntime } = this.#parts
    const whole = new Batch({
      ...parts,
      fetch: sentBy ? async (...request) => asResponse(await sentBy(fetch, !isFetchOfRuntime, ...request)) : fetch,
    })
    return {
      batch: whole,
      calls: calls.map(({ matched, sending }, i) => {
        const own = { ...sending, sentBy: undefined }
        return new HttpCall({ ...this.#parts, fetch: whole.fetchOf(i) }, matched, own, this.#form(matched.rule), wanted)
      }),
    }
  }

  #counter(rule: RequestEndpoint): EndpointCounter {
    let counter = this.#counters.get(rule)
    if (!counter) {
      counter = this.#parts.ledger.counter(rule.provider, rule.name, rule.mode)
      this.#counters.set(rule, counter)
    }
    return counter
  }

  #sending(matched: Matched, sent: RequestSnapshot, signal: AbortSignal | undefined): Maybe<Sending> {
    const { method, provider, endpoint } = matched
    if (!provider || !endpoint?.isTended) return this.#passing(matched, { sent, signal }, undefined)
    const covered = { sent, signal, provider, endpoint }
    if (method === 'GET' || method === 'HEAD') return this.#keyed(matched, covered, undefined)
    return bytesOf(sent).then((body) => this.#keyed(matched, covered, body))
  }

  #keyed({ method, url }: Matched, { sent, signal, provider, endpoint, asked }: Covered, body: ReadBody | undefined): Sending {
    const { input, init } = sent
    const fields = body ? new SentFields(body.headers) : SentFields.of(sent)
    const { headers } = fields
    const header = (field: string) => fields.get(field)
    const send: Sending['send'] = (own) =>
      body?.resend(own) ?? [input, { ...init, ...(headers && { headers }), signal: own } as RequestInit]
    const asking = body && asked?.call
    const keyed: SentRequest = sentRequest({
      ...{ method: method === 'HEAD' ? 'GET' : method, url, header, fields },
      body: asking ? encoder.encode(asking.text) : body?.bytes,
      identity: asking?.identity === undefined ? undefined : { body: encoder.encode(asking.identity), name: asking.name ?? '' },
    })
    const known = this.#said.of(provider, endpoint, keyed)
    const its = { headers: fields, signal, sentBy: sentByOf(init), send, asked }
    if (!known) return { ...its, bypass: 'no-key' }
    const { redirect, connection } = callOptionsOf(sent)
    const isApart = connection !== '' && !provider.caller && !endpoint.keying.shared
    const options = `${redirect ? ` redirect:${redirect}` : ''}${isApart ? connection : ''}`
    const directives = requestDirectivesOf(fields, sent)
    return {
      ...{ ...its, bypass: bypassOf(known.excepted, directives) },
      keyed: {
        ...{ request: keyed, options, directives, excerpt: excerptOf(method, header), tenant: known.tenant },
        key: `${known.key}${options}`,
      },
    }
  }

  #form(endpoint: RequestEndpoint): AnswerForm<HttpAnswer> {
    const known = this.#forms.get(endpoint)
    if (known) return known
    const { replaySetCookie, fallback } = endpoint
    const form: AnswerForm<HttpAnswer> = {
      restore: answerOfEntry,
      statusOf: ({ status }) => status,
      slides: (entry) => answerOfEntry(entry).status < 300,
      canJoin: ({ body }) => !(body instanceof SharedBody) || (endpoint.isGivenWhole ? body.bytes !== undefined : body.joinable),
      copy: (shared) => ({ ...shared, fields: reusableFields(shared.fields, { withCookies: replaySetCookie }) }),
      fallback: fallback && fallbackAnswer(fallback),
    }
    this.#forms.set(endpoint, form)
    return form
  }
}

function signalOf({ signal, isSignalOfRequest }: RequestSnapshot, wanted: CallOptions | undefined): AbortSignal | undefined {
  return isSignalOfRequest ? (wanted?.signal ?? signal) : (signal ?? wanted?.signal)
}

function urlOf(text: string): URL {
  try {
    return new URL(text, (globalThis as { location?: { href: string } }).location?.href)
  } catch (cause) {
    throw new TypeError(`${shown(text)} is not an absolute URL: give one, e.g. "https://tides.ebbline.example/v2/stations"`, { cause })
  }
}
