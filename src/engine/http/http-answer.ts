import { cacheStatus } from '../../core/decide/cache-status.js'
import type { Outcome } from '../../core/decide/outcome.js'
import type { AnswerInstead } from '../../core/endpoints/options.js'
import type { Fields, StoredHead } from '../../core/http/stored-head.js'
import type { Entry } from '../../core/ports/entry-store.js'
import { AnswerResponse, unusualResponse } from './answer-response.js'
import { SharedBody } from './shared-body.js'

/** An HTTP answer of which a `Response` can be made any number of times, also while its body is still arriving. */
export interface HttpAnswer extends StoredHead {
  readonly body: Uint8Array | SharedBody
  /** In place of all else, where the answer may not be read. */
  readonly opaque?: Response | undefined
  /** What `Response.type` is, where it is not that of an answer of ours. */
  readonly type?: string | undefined
}

/** A complete HTTP answer at rest. */
export interface CompleteAnswer extends HttpAnswer {
  readonly body: Uint8Array
}

/** The answer that an entry holds. Its head is decoded once and kept with the entry. */
export function answerOfEntry(entry: Entry): CompleteAnswer {
  entry.memo ??= Object.assign(JSON.parse(entry.head) as StoredHead, { body: entry.body })
  return entry.memo as CompleteAnswer
}

/** What makes the default answer of an endpoint. */
export function fallbackAnswer({ status = 200, headers = {}, json, text = '' }: AnswerInstead): () => CompleteAnswer {
  const isJson = json !== undefined
  const fields: Fields = Object.entries({ ...(isJson && { 'content-type': 'application/json' }), ...headers }).map(
    ([name, value]) => [name.toLowerCase(), value] as const,
  )
  const body = new TextEncoder().encode(isJson ? JSON.stringify(json) : text)
  return () => ({ status, statusText: '', fields, body })
}

/** Statuses whose answers have no body, so that `Response` takes none (Fetch Standard, "null body status"). */
export const bodiless = [101, 103, 204, 205, 304]

/** What of a call matters for the `Response` that answers it. */
export interface Recipient {
  readonly method: string
  /** The asked URL, without fragment. */
  readonly url: string
  readonly signal: AbortSignal | undefined
}

/**
 * A `Response` of its own for one caller, with `Cache-Status` (RFC 9211) after those of the upstream and, if it comes from store, `Age`
 * (RFC 9111 section 5.1); that of a call that goes by untouched has neither. `abandoned` is called where its reader leaves before the end.
 */
export function toResponse(answer: HttpAnswer, outcome: Outcome, now: number, recipient: Recipient, abandoned: () => void): Response {
  if (answer.opaque) return answer.opaque
  const { method, url, signal } = recipient
  const fields: [string, string][] = [...(answer.fields as [string, string][])]
  if (outcome.how !== 'passed') fields.push(['cache-status', cacheStatus(outcome, now)])
  if (outcome.how === 'hit' || outcome.how === 'stale') fields.push(['age', String(Math.floor(outcome.ageMs / 1000))])
  const empty = method === 'HEAD' || bodiless.includes(answer.status)
  const body = empty ? null : bodyFor(answer.body, signal, abandoned)
  const isOrdinary = outcome.how !== 'passed' && canBeMade(answer)
  const given = { url, headers: fields, outcome }
  if (isOrdinary) return new AnswerResponse(body, answer, given) as unknown as Response
  const head = canBeMade(answer) ? answer : { ...answer, status: 200, statusText: '' }
  return unusualResponse(new AnswerResponse(body, head, given) as unknown as Response, answer)
}

function bodyFor(
  body: Uint8Array | SharedBody,
  signal: AbortSignal | undefined,
  abandoned: () => void,
): Uint8Array<ArrayBuffer> | ReadableStream<Uint8Array> {
  const bytes = body instanceof SharedBody ? body.bytes : body
  return bytes ? (bytes as Uint8Array<ArrayBuffer>) : (body as SharedBody).stream(signal, abandoned)
}

/** Whether the constructor of `Response` takes it as it is. */
export function canBeMade({ status, statusText }: HttpAnswer): boolean {
  return status >= 200 && status <= 599 && (statusText === '' || /^[\t\x20-\x7e]*$/.test(statusText))
}

export function fieldsOf(headers: Headers): Fields {
  return [...(headers as unknown as Iterable<[string, string]>)]
}
