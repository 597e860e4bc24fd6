import type { RequestEndpoint } from '../../core/endpoints/endpoint.js'
import { fieldValue } from '../../core/http/stored-head.js'
import { isBrokenJson } from '../../core/rules/failure.js'
import type { AnswerFacts } from '../../core/rules/freshness.js'
import { unitsOf } from '../../core/rules/units.js'
import type { Finished } from '../call/fetched.js'
import { factsOf } from './answer-facts.js'
import type { CompleteAnswer } from './http-answer.js'
import { type Exchanged, type Keeper, keptForm } from './kept-answer.js'
import type { Asked } from './spoken-calls.js'

/** The call whose answer it is. */
export interface Judged extends Keeper {
  readonly method: string
  /** What it says in the protocol of its endpoint. */
  readonly asked?: Asked | undefined
  /** Called with what goes wrong with a function of the configuration. */
  readonly trouble: (what: string, error: unknown) => void
}

/** What a complete answer came to. */
export function judgedBody(call: Judged, answer: CompleteAnswer, known: Exchanged): Finished {
  const { http } = known
  const { endpoint, method } = call
  const { statuses, test } = endpoint.failure
  const { status, fields } = http
  if (statuses.has(status)) return { notKept: 'failed' }
  if (call.asked) {
    const fault = replyFault(call, call.asked, answer)
    if (fault) return fault
  }
  const isWhole = status >= 200 && status < 300 && status !== 206 && method !== 'HEAD'
  if (isWhole && endpoint.mode !== 'measure' && endpoint.isTended) {
    if (isBrokenJson(fieldValue(fields, 'content-type'), answer.body)) return { amiss: amiss(endpoint, 'calls itself JSON and is not') }
    if (test && says(call, test, factsOf(http, answer.body)))
      return { amiss: amiss(endpoint, 'says that it failed, by "failsWhen"'), units: unitsOf(endpoint.units, factsOf(http, answer.body)) }
  }
  return { kept: keptForm(call, answer, known) }
}

/** Whether a response of a protocol has several parts, as they come: it is passed on. */
export function isSeveral(type: string): boolean {
  return type.startsWith('multipart/') || type === 'text/event-stream'
}

/** Why the response to a call in a protocol is not kept; undefined where it may be. */
function replyFault({ endpoint }: Judged, { reader, call }: Asked, { status, fields, body }: CompleteAnswer): Finished | undefined {
  if (status < 200 || status > 299 || isSeveral(fieldValue(fields, 'content-type')?.toLowerCase() ?? '')) return { notKept: 'not-reusable' }
  if (!endpoint.isTended) return undefined
  const fault = reader.faultOf(call, decoder.decode(body))
  if (fault === undefined) return undefined
  if (endpoint.mode === 'measure' || fault === 'unknown-document') return { notKept: 'failed' }
  const what = fault === 'foreign' ? 'is no reply to what was asked' : 'has errors'
  const isOfCaller = !isBrokenJson('application/json', body) // else something else answered
  return { amiss: amiss(endpoint, what), isOfCaller, units: unitsOf(endpoint.units, factsOf({ status, fields }, body)) }
}

const decoder = new TextDecoder()

function amiss({ provider, name }: RequestEndpoint, what: string): Error {
  return new Error(`the answer of ${provider}.${name} ${what}`)
}

/** Whether a rule says that an answer failed; where its function fails itself, the answer counts as a good one. */
function says({ endpoint, trouble }: Judged, test: (answer: AnswerFacts) => boolean, facts: AnswerFacts): boolean {
  try {
    return test(facts)
  } catch (error) {
    trouble(`"failsWhen" of ${endpoint.provider}.${endpoint.name} fails, its answers count as good ones`, error)
    return false
  }
}
