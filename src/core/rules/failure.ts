import type { AnswerFacts } from './freshness.js'
import { atPointer } from './json-pointer.js'
import { yesOrNo } from './yes-or-no.js'

/** Answers that look fine but are not. */
export type FailureOptions =
  | ((answer: AnswerFacts) => boolean)
  | {
      /** Statuses that count as failures. */
      readonly statuses?: readonly number[]
      /** Where in its JSON an answer says that it failed, as a JSON Pointer (RFC 6901): it fails if anything stands there but null and false. */
      readonly at?: string
      /** What has to stand there. */
      readonly is?: string | number | boolean | null
    }

/** What counts as a failure, compiled. */
export interface FailureRule {
  readonly statuses: ReadonlySet<number>
  /** Undefined where no body has to be looked at. May throw what a function of the configuration throws. */
  readonly test: ((answer: AnswerFacts) => boolean) | undefined
}

export function compileFailure(options: FailureOptions = {}): FailureRule {
  if (typeof options === 'function') return { statuses: new Set(), test: (answer) => yesOrNo(options(answer), 'failsWhen') }
  const { statuses = [], at, is } = options
  return { statuses: new Set(statuses), test: at === undefined ? undefined : (answer) => says(answer, at, is) }
}

function says(answer: AnswerFacts, at: string, is: unknown): boolean {
  const found = atPointer(jsonOf(answer), at)
  return is === undefined ? found !== undefined && found !== null && found !== false : found === is
}

/** Undefined where the answer is not JSON: whether that is a failure is another question. */
function jsonOf(answer: AnswerFacts): unknown {
  try {
    return answer.json()
  } catch {
    return undefined
  }
}

/** Whether an answer claims to be JSON but does not parse (RFC 8259); one without a body says nothing. */
export function isBrokenJson(contentType: string | null | undefined, body: Uint8Array): boolean {
  if (body.byteLength === 0 || !/^\s*application\/([\w.+-]+\+)?json\s*(;|$)/i.test(contentType ?? '')) return false
  try {
    JSON.parse(decoder.decode(body))
    return false
  } catch {
    return true
  }
}

const decoder = new TextDecoder()
