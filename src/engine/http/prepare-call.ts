import { unknownProvider } from '../../core/endpoints/compile.js'
import type { Provider, RequestEndpoint } from '../../core/endpoints/endpoint.js'
import type { CallOptions, Refusals } from '../../core/endpoints/options.js'
import type { RuleBook } from '../../core/endpoints/rule-book.js'
import { reusableFields } from '../../core/http/stored-head.js'
import { OncePerEpisode } from '../../core/once-per-episode.js'
import { digestOf } from '../../core/rules/digest.js'
import type { SentRequest } from '../../core/rules/keying.js'
import type { Mode } from '../../core/rules/mode.js'
import { Redaction } from '../../core/rules/redaction.js'
import { requestKey } from '../../core/rules/request-key.js'
import { yesOrNo } from '../../core/rules/yes-or-no.js'
import type { AnswerForm } from '../call/answer-form.js'
import type { LedgerWriter } from '../ledger/ledger-writer.js'
import { CredentialNotices } from './credential-notices.js'
import { excerptOf } from './excerpt.js'
import { answerOfEntry, fallbackAnswer, type HttpAnswer } from './http-answer.js'
import { HttpCall, type HttpCallParts, type Matched, type Sending } from './http-call.js'
import { asCalled, bypassOf, bytesOf, type Init, type Input, redirectOf, requestDirectivesOf } from './http-request.js'
import { SharedBody } from './shared-body.js'

export interface PrepareCallParts extends HttpCallParts {
  readonly rules: RuleBook
  readonly mode: Mode
  readonly refusals: Refusals
  readonly ledger: LedgerWriter
  readonly warn: (message: string) => void
}

/** What the rule says of a request. */
interface Known {
  readonly key: string
  readonly excepted: boolean
  readonly tenant: string | undefined
}

/** Makes calls of what `fetch` is called with. */
export class CallPreparation {
  readonly #parts: PrepareCallParts
  readonly #functions: OncePerEpisode
  readonly #notices: CredentialNotices
  readonly #unknown: RequestEndpoint
  readonly #forms = new Map<RequestEndpoint, AnswerForm<HttpAnswer>>()

  constructor(parts: PrepareCallParts) {
    this.#parts = parts
    this.#functions = new OncePerEpisode(parts.warn)
    this.#notices = new CredentialNotices(parts.warn)
    this.#unknown = unknownProvider({ mode: parts.mode, sets: {}, refusals: parts.refusals })
  }

  match(input: Input, init: Init): Matched {
    const { rules, ledger } = this.#parts
    const request = input instanceof Request ? input : undefined
    const method = (init?.method ?? request?.method ?? 'GET').toUpperCase()
    const url = new URL(request ? request.url : String(input), (globalThis as { location?: { href: string } }).location?.href)
    const match = rules.match(method, url)
    const rule = match.endpoint ?? match.provider?.rest ?? this.#unknown
    return { ...match, method, url, rule, counter: ledger.counter(rule.provider, rule.name, rule.mode) }
  }

  async call(calledWith: Input, calledInit: Init, wanted?: CallOptions): Promise<{ call: HttpCall; matched: Matched }> {
    const [input, init] = asCalled(calledWith, calledInit)
    const matched = this.match(input, init)
    const sending = await this.#sending(matched, input, init, wanted?.signal)
    return { call: new HttpCall(this.#parts, matched, sending, this.#form(matched.rule), wanted), matched }
  }

  async #sending(
    { method, url, provider, endpoint }: Matched,
    input: Input,
    init: Init,
    wanted: AbortSignal | undefined,
  ): Promise<Sending> {
    const request = input instanceof Request ? input : undefined
    const signal = init?.signal ?? wanted ?? request?.signal ?? undefined // every Request has one, whether or not it was given any
    if (!provider || !endpoint?.isTended) {
      const headers = new Headers(init?.headers ?? request?.headers)
      const bypass = endpoint ? undefined : 'no-endpoint'
      return { headers, signal, bypass, send: (own) => [input, { ...init, signal: own } as RequestInit] }
    }
    const body = method === 'GET' || method === 'HEAD' ? undefined : await bytesOf(input, init)
    const headers = body?.headers ?? new Headers(init?.headers ?? request?.headers)
    const header = (field: string) => headers.get(field)
    const send: Sending['send'] = (own) => body?.resend(own) ?? [input, { ...init, headers, signal: own } as RequestInit]
    const keyed: SentRequest = { method: method === 'HEAD' ? 'GET' : method, url, header, body: body?.bytes, fields: headers }
    const known = this.#known(provider, endpoint, keyed)
    if (!known) return { headers, signal, bypass: 'no-key', send }
    const redirect = redirectOf(input, init)
    const directives = requestDirectivesOf(headers, input, init)
    return {
      ...{ headers, signal, send, bypass: bypassOf(known.excepted, directives) },
      keyed: {
        ...{ request: keyed, redirect, directives, excerpt: excerptOf(method, header), tenant: known.tenant },
        key: redirect ? `${known.key} redirect:${redirect}` : known.key,
      },
    }
  }

  /** The key of a request and whether it is excepted; undefined where a function of the rule fails: then it goes by as if it had none. */
  #known(provider: Provider, endpoint: RequestEndpoint, request: SentRequest): Known | undefined {
    try {
      this.#notices.look(provider, endpoint, request)
      const key = requestKey(provider, endpoint.keying, request)
      const excepted = yesOrNo(endpoint.exceptRequest?.(request), 'exceptRequest')
      const tenant = endpoint.countBy === 'per' ? this.#tenant(provider, endpoint, request) : undefined
      this.#functions.fine()
      return { key, excepted, tenant }
    } catch (cause) {
      const error = new Redaction(provider.credentials, request).error(cause)
      this.#functions.trouble(`${provider.name}.${endpoint.name} gives no key, its calls go upstream until it does`, error)
      return undefined
    }
  }

  /** Who calls, as the ledger names them: by a digest where the name is a credential or holds one. */
  #tenant(provider: Provider, { keying }: RequestEndpoint, request: SentRequest): string | undefined {
    const name = keying.per?.(request)
    if (name === undefined) return undefined
    const safe = new Redaction(provider.credentials, request).text(name)
    return safe === name ? name : `tenant ${digestOf(name).slice(0, 12)}`
  }

  #form(endpoint: RequestEndpoint): AnswerForm<HttpAnswer> {
    const known = this.#forms.get(endpoint)
    if (known) return known
    const { replaySetCookie, fallback } = endpoint
    const form: AnswerForm<HttpAnswer> = {
      restore: answerOfEntry,
      statusOf: ({ status }) => status,
      slides: (entry) => answerOfEntry(entry).status < 300,
      canJoin: ({ body }) => !(body instanceof SharedBody) || body.joinable,
      copy: (shared) => ({ ...shared, fields: reusableFields(shared.fields, { withCookies: replaySetCookie }) }),
      fallback: fallback && fallbackAnswer(fallback),
    }
    this.#forms.set(endpoint, form)
    return form
  }
}
