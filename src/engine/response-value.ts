import type { Outcome } from '../core/decide/outcome.js'
import { cacheStatus } from '../core/http/cache-status.js'
import type { Fields, StoredHead } from '../core/http/stored-head.js'
import type { Entry } from '../core/ports/store.js'

/** A whole HTTP answer at rest: a `Response` can be made of it any number of times. */
export interface HttpAnswer extends StoredHead {
  readonly body: Uint8Array
}

/** The answer that an entry holds. Its head is decoded once and kept with the entry. */
export function answerOfEntry(entry: Entry): HttpAnswer {
  entry.memo ??= { ...(JSON.parse(entry.head) as StoredHead), body: entry.body }
  return entry.memo as HttpAnswer
}

/** Statuses whose answers have no body, so that `Response` takes none (Fetch Standard, "null body status"). */
const bodiless = [101, 103, 204, 205, 304]

/** A `Response` of its own for one caller, with `Cache-Status` (RFC 9211) and, if it comes from store, `Age` (RFC 9111 section 5.1). */
export function toResponse(answer: HttpAnswer, outcome: Outcome, now: number): Response {
  const fields: [string, string][] = [...(answer.fields as [string, string][]), ['cache-status', cacheStatus(outcome, now)]]
  if (outcome.how === 'hit' || outcome.how === 'stale') fields.push(['age', String(Math.floor(outcome.ageMs / 1000))])
  const body = bodiless.includes(answer.status) ? null : (answer.body as Uint8Array<ArrayBuffer>)
  return new Response(body, { status: answer.status, statusText: answer.statusText, headers: fields })
}

export function fieldsOf(headers: Headers): Fields {
  return [...(headers as unknown as Iterable<[string, string]>)]
}
