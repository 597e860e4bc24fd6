import { resultOfStatus, whyNotKept } from '../core/decide/keep.js'
import { BrokenBodyError } from '../core/errors.js'
import { fieldsOfDecoded, reusableFields, type StoredHead } from '../core/http/stored-head.js'
import { conditionsOf, freshenedFields, speaksOf } from '../core/http/validators.js'
import { varyOf } from '../core/http/vary.js'
import type { Endpoint } from '../core/rules/endpoint.js'
import type { AnswerFacts } from '../core/rules/freshness.js'
import type { Fetched, Kept } from './ask.js'
import { fieldsOf, type HttpAnswer } from './response-value.js'

export type Fetch = typeof globalThis.fetch

/** Calls upstream, asking whether a stale answer still holds where it has validators (RFC 9111 section 4.3). Never rejects. */
export async function fetchOrRenew(
  fetch: Fetch,
  endpoint: Endpoint,
  input: Parameters<Fetch>[0],
  init: RequestInit,
  stale: HttpAnswer | undefined,
): Promise<Fetched<HttpAnswer>> {
  const conditions = stale ? conditionsOf(stale.fields) : []
  if (!stale || conditions.length === 0) return fetchWhole(fetch, endpoint, input, init)
  const headers = new Headers(init.headers as Headers)
  for (const [name, value] of conditions) headers.set(name, value)
  const fetched = await fetchWhole(fetch, endpoint, input, { ...init, headers })
  if (fetched.result !== 'answered' || fetched.status !== 304) return fetched
  if (!speaksOf(stale.fields, fetched.answer.fields)) {
    const whole = await fetchWhole(fetch, endpoint, input, init)
    return { ...whole, earlier: 1 }
  }
  const answer = { ...stale, fields: freshenedFields(stale.fields, reusableFields(fetched.answer.fields)) }
  return { result: 'answered', answer, status: 304, vary: varyOf(answer.fields), keep: () => keptForm(answer) }
}

/** Calls upstream and reads the answer whole. */
async function fetchWhole(fetch: Fetch, endpoint: Endpoint, input: Parameters<Fetch>[0], init: RequestInit): Promise<Fetched<HttpAnswer>> {
  let response: Response
  try {
    response = await fetch(input, init)
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

function keptForm({ status, statusText, fields, body }: HttpAnswer): Kept {
  const head: StoredHead = { status, statusText, fields: reusableFields(fields) }
  const facts: AnswerFacts = {
    status,
    header: (name) => new Headers(fields as [string, string][]).get(name),
    json: () => JSON.parse(new TextDecoder().decode(body)),
  }
  return { head: JSON.stringify(head), body, memo: { ...head, body }, facts }
}
