import { invalidatedTimes, timesOf } from '../../core/decide/entry-times.js'
import type { Provider, RequestEndpoint } from '../../core/endpoints/endpoint.js'
import type { CallOptions } from '../../core/endpoints/options.js'
import type { Match, RuleBook } from '../../core/endpoints/rule-book.js'
import { unmatched } from '../../core/endpoints/unmatched.js'
import { narrowed } from '../../core/http/no-vary-search.js'
import { reusableFields } from '../../core/http/stored-head.js'
import { comparedWithHead } from '../../core/http/validators.js'
import { OncePerEpisode } from '../../core/once-per-episode.js'
import type { Clock } from '../../core/ports/clock.js'
import type { Store } from '../../core/ports/store.js'
import { digestOf } from '../../core/rules/digest.js'
import type { KeyedRequest, Keying } from '../../core/rules/keying.js'
import type { Mode } from '../../core/rules/mode.js'
import { requestKey } from '../../core/rules/request-key.js'
import type { CallRunner } from '../answer/call-runner.js'
import { type Ask, termsOf } from '../call/call.js'
import type { Events } from '../events.js'
import type { Gate } from '../gate/gate.js'
import type { EndpointCounter, LedgerWriter } from '../ledger/ledger-writer.js'
import { canExcerpt, excerptOf } from './excerpt.js'
import { answerInstead, answerOfEntry, type HttpAnswer } from './http-answer.js'
import { bypassOf, bytesOf, mayCarryConditions, redirectOf, requestDirectivesOf } from './http-request.js'
import { type ArrivedAnswer, type Fetch, fetchAnswer, fetchOrRenew, renewed, type UpstreamRequest } from './http-upstream.js'
import { SharedBody } from './shared-body.js'

type Input = Parameters<Fetch>[0]
type Init = Parameters<Fetch>[1]

export interface HttpAsksParts {
  readonly rules: RuleBook
  readonly store: Store
  readonly clock: Clock
  readonly mode: Mode
  readonly books: LedgerWriter
  readonly runner: CallRunner
  readonly gate: Gate
  readonly events: Events
  readonly fetch: Fetch
  readonly warn: (message: string) => void
}

/** A request, with what covers it. */
export interface Matched extends Match {
  readonly method: string
  readonly url: URL
  readonly mode: Mode
  readonly line: EndpointCounter
}

/** What the runner needs to answer a request, and what else its `Response` is made of. */
export interface HttpAsk extends Ask<HttpAnswer, RequestEndpoint> {
  readonly header: (name: string) => string | null
}

/** Makes of requests what the runner needs to answer them. */
export class HttpCallMaker {
  readonly #parts: HttpAsksParts
  readonly #functions: OncePerEpisode

  constructor(parts: HttpAsksParts) {
    this.#parts = parts
    this.#functions = new OncePerEpisode(parts.warn)
  }

  match(input: Input, init: Init): Matched {
    const { rules, books } = this.#parts
    const request = input instanceof Request ? input : undefined
    const method = (init?.method ?? request?.method ?? 'GET').toUpperCase()
    const url = new URL(request ? request.url : String(input), (globalThis as { location?: { href: string } }).location?.href)
    const match = rules.match(method, url)
    const mode = match.endpoint?.mode ?? match.provider?.mode ?? this.#parts.mode
    const line = books.line(match.provider?.name ?? unmatched, match.endpoint?.name ?? unmatched, mode)
    return { ...match, method, url, mode, line }
  }

  /** What the runner needs, or, where no rule holds for a request, only what sends it on with its body unread. */
  async ask(matched: Matched, input: Input, init: Init, wanted?: CallOptions): Promise<{ ask?: HttpAsk; unread: Init }> {
    const { method, url, provider, endpoint, line } = matched
    if (!provider || !endpoint?.isTended) return { unread: init }
    const request = input instanceof Request ? input : undefined
    const body = method === 'GET' || method === 'HEAD' ? undefined : await bytesOf(input, init)
    const headers = body?.headers ?? new Headers(init?.headers ?? request?.headers)
    const header = (field: string) => headers.get(field)
    const keyed: KeyedRequest = { method: method === 'HEAD' ? 'GET' : method, url, header, body: body?.bytes }
    const unread = body ? { ...init, body: body.bytes } : init
    const known = this.#known(provider, endpoint, keyed)
    if (!known) return { unread }
    const redirect = redirectOf(input, init)
    const under = (keying: Keying) => `${requestKey(provider, keying, keyed)}${redirect ? ` redirect:${redirect}` : ''}`
    const key = redirect ? under(endpoint.keying) : known.key
    const excerpt = excerptOf(method, header)
    const directives = requestDirectivesOf(headers, input, init)
    const ask: HttpAsk = {
      ...{ endpoint, line, key, header, directives, excerpt },
      bypass: bypassOf(known.excepted, directives),
      signal: init?.signal ?? request?.signal ?? undefined,
      variantKey: (base, fields) => `${base} vary:${JSON.stringify(fields.map((field) => [field, variantValue(provider, keyed, field)]))}`,
      search: {
        signpostKey: `${under({ ...endpoint.keying, usesParameter: () => false })} search`,
        key: (variance) => `${under(narrowed(endpoint.keying, variance))} search:${JSON.stringify(variance)}`,
      },
      canServe: (entry) => excerpt === undefined || canExcerpt(excerpt, header, entry),
      slides: (entry) => answerOfEntry(entry).status < 300,
      ...termsOf(endpoint, wanted),
      repeatable: endpoint.repeatable,
      fallback: endpoint.fallback && answerInstead(endpoint.fallback),
      sent: { method, url: withoutSecrets(url.href, provider) },
      callUpstream: async (ending, stale, leave) => {
        const [where, how] = body ? body.resend(ending.signal) : ([input, { ...init, headers, signal: ending.signal }] as const)
        const call: UpstreamRequest = {
          ...{ fetch: this.#parts.fetch, endpoint, input: where, init: how, ending, leave, now: () => this.#parts.clock.now() },
          later: (ms, run) => this.#parts.clock.later(ms, run),
          withoutSecrets: (text) => withoutSecrets(text, provider),
          authorized: headers.has('authorization'),
        }
        if (!excerpt) return fetchOrRenew(call, stale && mayCarryConditions(url) ? answerOfEntry(stale) : undefined)
        const fetched = await fetchAnswer(call)
        if (excerpt === 'head-asked' && fetched.result === 'answered') await this.#compareHead(ask, call, fetched.answer)
        return fetched
      },
      revive: answerOfEntry,
      canJoin: ({ body: shared }) => !(shared instanceof SharedBody) || shared.joinable,
      copy: (shared) => ({ ...shared, fields: reusableFields(shared.fields, { withCookies: endpoint.replaySetCookie }) }),
    }
    return { ask, unread }
  }

  /** The key of a request and whether it is excepted; undefined where a function of the rule fails: then it goes by as if it had none. */
  #known(provider: Provider, endpoint: RequestEndpoint, request: KeyedRequest): { key: string; excepted: boolean } | undefined {
    return this.#attempt(endpoint, () => ({
      key: requestKey(provider, endpoint.keying, request),
      excepted: endpoint.exceptRequest?.(request) ?? false,
    }))
  }

  #attempt<T>({ provider, name }: RequestEndpoint, work: () => T): T | undefined {
    try {
      const done = work()
      this.#functions.fine()
      return done
    } catch (cause) {
      this.#functions.trouble(`${provider}.${name} gives no key, its calls go upstream until it does`, cause)
      return undefined
    }
  }

  /** Brings a stored answer up to date by one to HEAD, or finds it out of date (RFC 9111 section 4.3.5). */
  async #compareHead(ask: HttpAsk, call: UpstreamRequest, head: ArrivedAnswer): Promise<void> {
    const { store, clock, runner } = this.#parts
    const { entry } = await runner.lookUp(ask)
    if (!entry || head.status !== 200 || ask.bypass) return
    const stored = answerOfEntry(entry)
    const compared = comparedWithHead(stored.fields, head.fields)
    if (compared === 'other') await store.entries.updateTimes(entry.key, invalidatedTimes(entry, clock.now()))
    if (compared !== 'same') return
    const { kept } = renewed(call, stored, head)
    const keeping = this.#attempt(ask.endpoint, () => kept.judge(entry.key))
    if (keeping && typeof keeping !== 'string') await store.entries.put({ ...entry, ...timesOf(keeping), ...kept.form(keeping) })
  }
}

/** A field's value as it stands in the key of a variant: those that say who calls only as a digest. */
function variantValue({ callerHeaders }: Provider, { header }: KeyedRequest, field: string): string | null {
  const value = header(field)
  return value !== null && callerHeaders.includes(field) ? digestOf(value) : value
}

export function withoutSecrets(text: string, { secretQuery }: Provider): string {
  const url = new URL(text)
  for (const name of secretQuery) url.searchParams.delete(name)
  return url.href
}
