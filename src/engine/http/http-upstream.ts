import { type HttpExchange, type NotKept, resultOfStatus } from '../../core/decide/keep.js'
import type { RequestEndpoint } from '../../core/endpoints/endpoint.js'
import { BrokenBodyError, UpstreamTimeoutError } from '../../core/errors/call-errors.js'
import type { Exchange } from '../../core/http/age.js'
import { searchVariance } from '../../core/http/no-vary-search.js'
import { type Fields, fieldValue, reusableFields } from '../../core/http/stored-head.js'
import { neverReached } from '../../core/http/unreached.js'
import { conditionsOf, freshenedFields, speaksOf } from '../../core/http/validators.js'
import { varyOf } from '../../core/http/variants.js'
import { reportedBy } from '../../core/limits/reported-limits.js'
import type { Clock } from '../../core/ports/clock.js'
import type { Maybe } from '../../core/ports/maybe.js'
import type { Redaction } from '../../core/rules/redaction.js'
import { isInKey } from '../../core/rules/request-key.js'
import type { Fetched, Finished } from '../call/fetched.js'
import type { Cancellation } from '../cancellation.js'
import { IdleTimer } from '../upstream/idle-timer.js'
import { type CompleteAnswer, fieldsOf, type HttpAnswer } from './http-answer.js'
import { isSeveral, judgedBody } from './judge-answer.js'
import { type Exchanged, judgedByHead, type Keeper, keptForm, takesCompleteAnswer } from './kept-answer.js'
import { isWhole, type Send, type WholeResponse } from './sent-by.js'
import { SharedBody } from './shared-body.js'
import { shownAnswer } from './shown-answer.js'
import type { Asked } from './spoken-calls.js'

export type Fetch = typeof globalThis.fetch

/** One upstream call to be made. */
export interface UpstreamRequest {
  readonly fetch: Send
  readonly endpoint: RequestEndpoint
  readonly input: Parameters<Fetch>[0]
  /** With the signal of `ending`. */
  readonly init: RequestInit
  readonly method: string
  readonly url: URL
  readonly ending: Cancellation
  /** Waited for before each call that leaves. */
  readonly leave: () => Maybe<void>
  readonly clock: Clock
  readonly redaction: Redaction
  readonly labels: Keeper['labels']
  /** What it says in the protocol of its endpoint. */
  readonly asked?: Asked | undefined
  /** Whether the request carries `Authorization`. */
  readonly authorized: boolean
  /** When the answer came, where another process has asked for it. */
  readonly at?: Exchange
  /** Called with what goes wrong with the head of an answer, which counts as if it said nothing then. */
  readonly trouble: (what: string, error: unknown) => void
}

/** Calls upstream, asking whether a stale answer still holds where it has validators (RFC 9111 section 4.3). Never rejects. */
export function fetchOrRenew(call: UpstreamRequest, stale: CompleteAnswer | undefined): Promise<Fetched<HttpAnswer>> {
  const isElsewhere = stale?.url !== undefined // its validators are those of another URL
  const conditions = stale && !isElsewhere ? conditionsOf(stale.fields) : []
  return !stale || conditions.length === 0 ? fetchAnswer(call) : renew(call, stale, conditions)
}

async function renew(call: UpstreamRequest, stale: CompleteAnswer, conditions: Fields): Promise<Fetched<HttpAnswer>> {
  const headers = new Headers(call.init.headers as Headers)
  for (const [name, value] of conditions) headers.set(name, value)
  const fetched = await fetchAnswer({ ...call, init: { ...call.init, headers } })
  if (fetched.result !== 'answered' || fetched.status !== 304) return fetched
  if (fetched.answer.url !== undefined || !speaksOf(stale.fields, fetched.answer.fields)) return fetchAnswer(call)
  const { answer, kept, vary } = renewed(call, stale, fetched.answer)
  return {
    ...{ result: 'answered', answer, status: 304, isComplete: true, vary, search: fetched.search, reported: fetched.reported },
    judged: takesCompleteAnswer(call.endpoint) ? undefined : kept.judge,
    finish: async () => ({ kept }),
    release() {},
  }
}

/** An answer that has arrived, with when. */
export type ArrivedAnswer = HttpAnswer & { readonly exchange: Exchange }

/** Media types whose answers are read piece by piece, as they come. */
const streamingTypes = ['text/event-stream', 'application/x-ndjson', 'multipart/x-mixed-replace']

/** A stored answer, brought up to date by one that says it still holds (RFC 9111 section 3.2). */
export function renewed(call: Keeper & Pick<UpstreamRequest, 'authorized'>, stale: CompleteAnswer, by: ArrivedAnswer) {
  const fields = freshenedFields(stale.fields, reusableFields(by.fields, { withCookies: true }))
  const answer: CompleteAnswer = { ...stale, fields }
  const vary = varyOf(fields, (name) => isInKey(call.endpoint.keying, name))
  const http: HttpExchange = {
    ...by.exchange,
    ...{ status: stale.status, fields, arrived: by.fields, authorized: call.authorized, vary, redirected: false },
    linksBySecret: call.redaction.linksBySecret(by.fields),
  }
  return { answer, vary, kept: keptForm(call, answer, { http, judged: undefined }) }
}

/** Calls upstream; the answer is there when its head is. */
export async function fetchAnswer(call: UpstreamRequest): Promise<Fetched<ArrivedAnswer>> {
  const { endpoint, clock, fetch } = call
  let askedAt: number
  let came: Response | WholeResponse
  try {
    const leaving = call.leave()
    if (leaving instanceof Promise) await leaving
    askedAt = clock.now()
    came = await fetch(call.input, call.init)
  } catch (error) {
    const unreached = !call.ending.aborted && neverReached(error, call.url)
    return { result: 'failed', error: call.redaction.error(error), unreached }
  }
  const { status, statusText } = came
  const whole = isWhole(came) ? came : undefined
  const response = isWhole(came) ? undefined : came
  const answeredAt = call.at?.answeredAt ?? clock.now()
  const fields = response ? fieldsOf(response.headers) : (whole?.fields ?? [])
  const url = response?.redirected ? response.url : undefined
  const body = response?.body && sharedBody(call, response.body)
  const said = headOf(call, status, fields, answeredAt)
  const http: HttpExchange = {
    askedAt: call.at?.askedAt ?? askedAt,
    answeredAt,
    status,
    fields,
    arrived: fields,
    authorized: call.authorized,
    vary: said.vary,
    redirected: response?.redirected === true,
    linksBySecret: call.redaction.linksBySecret(fields),
  }
  const answer: ArrivedAnswer = {
    status,
    statusText,
    fields,
    url,
    body: body ?? whole?.bytes ?? new Uint8Array(),
    exchange: http,
    opaque: status === 0 ? response : undefined, // one to a request in mode `no-cors` may not be read, only passed on
    type: response === undefined || response.type === 'default' ? undefined : response.type,
  }
  const judged = judgedByHead(endpoint, http)
  const type = fieldValue(fields, 'content-type')?.split(';')[0]?.trim().toLowerCase() ?? ''
  return {
    result: resultOfStatus(status, endpoint.failure.statuses),
    answer,
    status,
    vary: said.vary,
    search: said.search,
    reported: said.reported,
    isComplete: response === undefined,
    isStream: endpoint.isStream || streamingTypes.includes(type) || (call.asked !== undefined && isSeveral(type)),
    settled: body?.settled,
    judged,
    arriving: body ? shownAnswer(call, answer, body, { http, judged }) : undefined,
    finish: () => finishBody(call, answer, body, { http, judged, length: response && lengthOf(response, fields) }),
    release: () => body?.release(),
  }
}

function sharedBody({ endpoint, ending, clock, redaction, at }: UpstreamRequest, source: ReadableStream<Uint8Array>): SharedBody {
  const { provider, name, mode, timeouts } = endpoint
  const late = () => ending.abort(new UpstreamTimeoutError(provider, name, 'nextByte', timeouts.idleMs))
  const isRelayed = at !== undefined // whoever asked for it sees to its pauses
  const idle =
    isRelayed || mode === 'measure' || !Number.isFinite(timeouts.idleMs) ? undefined : new IdleTimer(clock, timeouts.idleMs, late)
  const body = new SharedBody(source, endpoint.maxBodyBytes, {
    desert: (reason) => ending.abort(reason ?? new DOMException('nobody reads the answer any more', 'AbortError')),
    explain: (cause) => (ending.aborted ? ending.reason : new BrokenBodyError(provider, name, { cause: redaction.error(cause) })),
    waits: () => idle?.waits(),
    arrived: () => idle?.arrived(),
    stop: () => idle?.stop(),
  })
  ending.onAbort(() => body.breakOff(ending.reason))
  return body
}

/** What the head of an answer says; nothing, where it cannot be read. */
function headOf({ endpoint, trouble }: UpstreamRequest, status: number, fields: Fields, now: number) {
  const read = <T>(work: () => T, instead: T): T => {
    try {
      return work()
    } catch (error) {
      trouble(`the head of an answer of ${endpoint.provider}.${endpoint.name} cannot be read`, error)
      return instead
    }
  }
  return {
    vary: read(() => varyOf(fields, (name) => isInKey(endpoint.keying, name)), '*' as const),
    search: read(() => searchVariance(fields), undefined),
    reported: read(() => reportedBy(status, fields, now, endpoint.reportedQuota), undefined),
  }
}

async function finishBody(
  call: UpstreamRequest,
  answer: HttpAnswer,
  body: SharedBody | null | undefined,
  { length, ...known }: Exchanged & { readonly length: number | undefined },
): Promise<Finished> {
  const { endpoint, ending } = call
  try {
    if (body && (await body.fill(length)) === 'too-large') return { notKept: 'too-large' satisfies NotKept }
  } catch (broken) {
    const { aborted, reason } = ending
    return aborted && !(reason instanceof UpstreamTimeoutError) ? { abandoned: reason } : { broken }
  }
  try {
    const bytes = body?.bytes ?? (answer.body as Uint8Array)
    if (bytes.byteLength > endpoint.maxBodyBytes) return { notKept: 'too-large' }
    return judgedBody(call, { ...answer, body: bytes }, known)
  } catch (error) {
    call.trouble(`answers of ${endpoint.provider}.${endpoint.name} are not stored`, error)
    return { notKept: 'trouble' }
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
