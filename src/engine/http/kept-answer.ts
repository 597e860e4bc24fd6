import { type HttpExchange, type Keeping, keepAnswer, type NotKept } from '../../core/decide/keep.js'
import type { RequestEndpoint } from '../../core/endpoints/endpoint.js'
import { httpDate } from '../../core/http/http-date.js'
import { fieldValue, reusableFields, type StoredHead } from '../../core/http/stored-head.js'
import type { AnswerFacts } from '../../core/rules/freshness.js'
import type { Redaction } from '../../core/rules/redaction.js'
import { unitsOf } from '../../core/rules/units.js'
import type { Kept } from '../call/fetched.js'
import { factsOf, headOnly } from './answer-facts.js'
import type { CompleteAnswer } from './http-answer.js'

/** What is known of an exchange: whether and how its answer is kept under a key, where its head says that. */
export interface Exchanged {
  readonly http: HttpExchange
  readonly judged: ((key: string) => Keeping | NotKept) | undefined
}

/** Whose answer it is. `labels`: what it is labelled with; undefined where its endpoint says nothing of that. */
export interface Keeper {
  readonly endpoint: RequestEndpoint
  readonly redaction: Redaction
  readonly labels: ((answer: AnswerFacts) => readonly string[]) | undefined
}

/** A complete answer, ready to be stored. */
export function keptForm(
  { endpoint, redaction, labels }: Keeper,
  { status, statusText, fields, url, body }: CompleteAnswer,
  { http, judged }: Exchanged,
): Kept {
  const facts = factsOf(http, body)
  return {
    units: unitsOf(endpoint.units, facts),
    judge: judged ?? ((key) => keepAnswer(endpoint, key, facts, http)),
    form: ({ withheld, freshBy }) => {
      let made: StoredHead | undefined // only measuring, nobody asks for it
      const head = () => {
        made ??= {
          status,
          statusText,
          fields: [
            ...redaction.fields(reusableFields(fields, { withCookies: endpoint.replaySetCookie, withheld })),
            ...(fieldValue(fields, 'date') === undefined ? [['date', httpDate(http.answeredAt)] as const] : []), // RFC 9110 section 6.6.1
          ],
          url: url && redaction.url(url),
          freshBy,
        }
        return made
      }
      return {
        body,
        labels: labels?.(facts),
        get head() {
          return JSON.stringify(head())
        },
        get memo() {
          return { ...head(), body }
        },
      }
    },
  }
}

/** Whether and how an answer is kept under a key, found out once for each; undefined where only the complete answer shows that. */
export function judgedByHead(endpoint: RequestEndpoint, http: HttpExchange): Exchanged['judged'] {
  if (takesCompleteAnswer(endpoint)) return undefined
  let of: string | undefined
  let keeping: Keeping | NotKept = 'not-reusable'
  return (key) => {
    if (of !== key) {
      keeping = keepAnswer(endpoint, key, headOnly(http), http)
      of = key
    }
    return keeping
  }
}

/** Whether only the complete answer shows if it is kept. */
export function takesCompleteAnswer({ freshness, exceptAnswer }: RequestEndpoint): boolean {
  return freshness?.kind === 'said' || exceptAnswer !== undefined
}
