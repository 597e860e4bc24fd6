import { type HttpExchange, keepAnswer, type NotKept, resultOfStatus } from '../../core/decide/keep.js'
import type { RequestEndpoint } from '../../core/endpoints/endpoint.js'
import { BrokenBodyError, UpstreamTimeoutError } from '../../core/errors/call-errors.js'
import type { Exchange } from '../../core/http/age.js'
import { httpDate } from '../../core/http/http-date.js'
import { searchVariance } from '../../core/http/no-vary-search.js'
import { type Fields, fieldValue, reusableFields, type StoredHead } from '../../core/http/stored-head.js'
import { conditionsOf, freshenedFields, speaksOf } from '../../core/http/validators.js'
import { varyOf } from '../../core/http/variants.js'
import { reportedBy } from '../../core/limits/reported-limits.js'
import type { Clock } from '../../core/ports/clock.js'
import { isBrokenJson } from '../../core/rules/failure.js'
import type { AnswerFacts } from '../../core/rules/freshness.js'
import { unitsOf } from '../../core/rules/units.js'
import type { Fetched, Finished, Kept } from '../call/call.js'
import { type CompleteAnswer, fieldsOf, type HttpAnswer } from './http-answer.js'
import { SharedBody } from './shared-body.js'

export type Fetch = typeof globalThis.fetch

/** One upstream call to be made. */
export interface UpstreamRequest {
  readonly fetch: Fetch
  readonly endpoint: RequestEndpoint
  readonly input: Parameters<Fetch>[0]
  /** With the signal of `ending`. */
  readonly init: RequestInit
  readonly ending: AbortController
  /** Waited for before each call that leaves. */
  readonly leave: () => Promise<void>
  readonly later: Clock['later']
  /** Milliseconds since 1970-01-01T00:00Z. */
  readonly now: () => number
  /** A URL without the credentials in its query. */
  readonly withoutSecrets: (url: string) => string
  /** Whether the request carries `Authorization`. */
  readonly authorized: boolean
}

/** Calls upstream, asking whether a stale answer still holds where it has validators (RFC 9111 section 4.3). Never rejects. */
export async function fetchOrRenew(call: UpstreamRequest, stale: CompleteAnswer | undefined): Promise<Fetched<HttpAnswer>> {
  const conditions = stale ? conditionsOf(stale.fields) : []
  if (!stale || conditions.length === 0) return fetchAnswer(call)
  const headers = new Headers(call.init.headers as Headers)
  for (const [name, value] of conditions) headers.set(name, value)
  const fetched = await fetchAnswer({ ...call, init: { ...call.init, headers } })
  if (fetched.result !== 'answered' || fetched.status !== 304) return fetched
  if (!speaksOf(stale.fields, fetched.answer.fields)) return { ...(await fetchAnswer(call)), earlier: 1 }
  const { answer, kept, vary } = renewed(call, stale, fetched.answer)
  return {
    ...{ result: 'answered', answer, status: 304, whole: true, vary, search: searchVariance(answer.fields) },
    finish: async () => ({ kept }),
    release() {},
  }
}

/** An answer that has arrived, with when. */
export type ArrivedAnswer = HttpAnswer & { readonly exchange: Exchange }

/** A stored answer, brought up to date by one that says it still holds (RFC 9111 section 3.2). */
export function renewed(
  call: Pick<UpstreamRequest, 'endpoint' | 'withoutSecrets' | 'authorized'>,
  stale: CompleteAnswer,
  by: ArrivedAnswer,
) {
  const fields = freshenedFields(stale.fields, reusableFields(by.fields, { withCookies: true }))
  const answer: CompleteAnswer = { ...stale, fields }
  const vary = varyOf(fields)
  const http: HttpExchange = {
    ...by.exchange,
    ...{ status: stale.status, fields, arrived: by.fields, authorized: call.authorized, vary },
  }
  return { answer, vary, kept: keptForm(call, answer, http) }
}

/** Calls upstream; the answer is there when its head is. */
export async function fetchAnswer(call: UpstreamRequest): Promise<Fetched<ArrivedAnswer>> {
  const { endpoint, ending } = call
  const { fetch } = call
  let askedAt: number
  let response: Response
  try {
    await call.leave()
    askedAt = call.now()
    response = await fetch(call.input, call.init)
  } catch (error) {
    return { result: 'failed', error }
  }
  const { status, statusText } = response
  const exchange = { askedAt, answeredAt: call.now() }
  const fields = fieldsOf(response.headers)
  const url = response.redirected ? response.url : undefined
  const body =
    response.body &&
    new SharedBody(response.body, endpoint.maxBodyBytes, {
      desert: (reason) => ending.abort(reason),
      watch: () => {
        const { provider, name, timeouts } = endpoint
        return call.later(timeouts.firstByteMs, () =>
          ending.abort(new UpstreamTimeoutError(provider, name, 'nextByte', timeouts.firstByteMs)),
        )
      },
      explain: (cause) => (ending.signal.aborted ? ending.signal.reason : new BrokenBodyError(endpoint.provider, endpoint.name, { cause })),
    })
  if (body) ending.signal.addEventListener('abort', () => body.breakOff(ending.signal.reason), { once: true })
  const answer = { status, statusText, fields, url, body: body ?? new Uint8Array(), exchange, ...opaque(response) }
  const http: HttpExchange = { ...exchange, status, fields, arrived: fields, authorized: call.authorized, vary: varyOf(fields) }
  const result = resultOfStatus(status, endpoint.failure.statuses)
  const arrived = {
    ...{
      answer,
      status,
      vary: http.vary,
      search: searchVariance(fields),
      told: reportedBy(status, fields, exchange.answeredAt, endpoint.reportedQuota),
    },
    judged: takesWholeAnswer(endpoint) ? undefined : (key: string) => keepAnswer(endpoint, key, headOnly(http), http),
    finish: () => finishBody(call, answer, body, http, lengthOf(response, fields)),
    release: () => body?.release(),
  }
  return { result, ...arrived }
}

async function finishBody(
  call: UpstreamRequest,
  answer: HttpAnswer,
  body: SharedBody | null,
  http: HttpExchange,
  length: number | undefined,
): Promise<Finished> {
  const { endpoint, ending } = call
  try {
    if (body && (await body.fill(length)) === 'outgrown') return { notKept: 'too-large' satisfies NotKept }
  } catch (broken) {
    return { broken }
  }
  const bytes = body?.bytes ?? new Uint8Array()
  const { statuses, test } = endpoint.failure
  if (statuses.has(http.status)) return { notKept: 'failed' }
  const isWhole = http.status >= 200 && http.status < 300 && http.status !== 206 && call.init.method !== 'HEAD'
  if (isWhole && !ending.signal.aborted && endpoint.mode !== 'measure') {
    const facts = factsOf(http, bytes)
    if (isBrokenJson(fieldValue(http.fields, 'content-type'), bytes)) return { amiss: amiss(endpoint, 'calls itself JSON and is none') }
    if (test && says(test, facts)) return { amiss: amiss(endpoint, 'says that it failed, by "failsWhen"') }
  }
  return { kept: keptForm(call, { ...answer, body: bytes }, http) }
}

function amiss({ provider, name }: RequestEndpoint, what: string): Error {
  return new Error(`the answer of ${provider}.${name} ${what}`)
}

/** A function of the configuration that fails says nothing: the answer counts as it is. */
function says(test: (answer: AnswerFacts) => boolean, facts: AnswerFacts): boolean {
  try {
    return test(facts)
  } catch {
    return false
  }
}

/**
 * How many bytes the body has to have; undefined where that cannot be known, for `fetch` undoes content codings, and a page does not see
 * them in answers of another origin.
 */
function lengthOf(response: Response, fields: Fields): number | undefined {
  const coded = fieldValue(fields, 'content-encoding') !== undefined
  const length = fieldValue(fields, 'content-length')
  return coded || response.type === 'cors' || length === undefined || !/^\d+$/.test(length) ? undefined : Number(length)
}

function factsOf(http: HttpExchange, body: Uint8Array): AnswerFacts {
  return { ...headOnly(http), json: () => JSON.parse(new TextDecoder().decode(body)) }
}

function keptForm(
  { endpoint, withoutSecrets }: Pick<UpstreamRequest, 'endpoint' | 'withoutSecrets'>,
  { status, statusText, fields, url, body }: CompleteAnswer,
  http: HttpExchange,
): Kept {
  const facts = factsOf(http, body)
  return {
    units: unitsOf(endpoint.units, facts),
    judge: (key) => keepAnswer(endpoint, key, facts, http),
    form: ({ withheld, freshBy }) => {
      const kept = [
        ...reusableFields(fields, { withCookies: endpoint.replaySetCookie, withheld }),
        ...(fieldValue(fields, 'date') === undefined ? [['date', httpDate(http.answeredAt)] as const] : []), // RFC 9110 section 6.6.1
      ]
      const head: StoredHead = { status, statusText, fields: kept, url: url && withoutSecrets(url), freshBy }
      return { head: JSON.stringify(head), body, memo: { ...head, body } }
    },
  }
}

/** Whether only the whole answer shows if it is kept. */
function takesWholeAnswer({ freshness, exceptAnswer }: RequestEndpoint): boolean {
  return freshness?.kind === 'said' || exceptAnswer !== undefined
}

function headOnly({ status, fields }: { readonly status: number; readonly fields: Fields }): AnswerFacts {
  return { status, header: (name) => new Headers(fields as [string, string][]).get(name), json: () => undefined }
}

/** An answer that may not be read, such as one to a request in mode `no-cors`: only `fetch` itself can make a `Response` of it. */
function opaque(response: Response): { opaque?: Response } {
  return response.status === 0 ? { opaque: response } : {}
}
