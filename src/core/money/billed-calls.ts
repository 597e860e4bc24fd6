import type { Money } from './money.js'
import type { PlanOptions, UnbilledOutcome } from './plan.js'

/** Upstream calls by how they ended; unmodified and client errors are answered ones, server errors failed ones. */
interface UpstreamCounts {
  readonly upAnswered: number
  readonly upUnmodified: number
  readonly upClientError: number
  readonly upRefused: number
  readonly upFailed: number
  readonly upServerError: number
  /** Given up by their callers; `upUnanswered`: of these, before an answer had begun. */
  readonly upAbandoned: number
  readonly upUnanswered: number
}

/** How many of the upstream calls made a plan bills. */
export function billedCalls({ notBilled = [] }: Pick<PlanOptions, 'notBilled'>, tally: UpstreamCounts): number {
  const { upAnswered, upUnmodified, upClientError, upRefused, upFailed, upServerError, upAbandoned, upUnanswered } = tally
  const ways: [UnbilledOutcome[], number][] = [
    [[], upAnswered - upUnmodified - upClientError + upAbandoned - upUnanswered],
    [['unmodified'], upUnmodified],
    [['clientError'], upClientError],
    [['refused'], upRefused],
    [['failed', 'serverError'], upServerError],
    [['failed', 'noAnswer'], upFailed - upServerError + upUnanswered],
  ]
  return ways.reduce((sum, [names, calls]) => sum + (names.some((name) => notBilled.includes(name)) ? 0 : calls), 0)
}

/** Ways for a call to end, as far as billing distinguishes them. */
export type Ending = Exclude<UnbilledOutcome, 'failed'> | 'answered'

/** What a call that ended so costs; undefined where no price of a single call is known or the plan does not bill it. */
export function costOfCall(
  { price, unbilled }: { readonly price: Money | undefined; readonly unbilled: readonly UnbilledOutcome[] },
  ending: Ending,
): Money | undefined {
  return isBilled(unbilled, ending) ? price : undefined
}

/** Whether a call that ended so is on the bill. */
export function isBilled(unbilled: readonly UnbilledOutcome[], ending: Ending): boolean {
  const names: readonly string[] = ending === 'serverError' || ending === 'noAnswer' ? ['failed', ending] : [ending]
  return !unbilled.some((name) => names.includes(name))
}

/** How a call ended that came to `result`, by the status of its answer if it had one. */
export function endingOf(result: 'answered' | 'refused' | 'failed', status: number | undefined): Ending {
  if (result === 'refused') return 'refused'
  if (result === 'failed') return status !== undefined && status >= 500 ? 'serverError' : 'noAnswer'
  if (status === 304) return 'unmodified'
  return status !== undefined && status >= 400 && status < 500 ? 'clientError' : 'answered'
}
