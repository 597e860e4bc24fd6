/** Why an answer was not stored. */
export type NotKept = 'status' | 'varies' | 'partial' | 'not-plain-data' | 'not-reusable'

/** Whether an HTTP answer may be stored: undefined if so, else why not. Only plain successes are, until a rule says more. */
export function whyNotKept(status: number, vary: readonly string[] | '*'): NotKept | undefined {
  if (status === 206) return 'partial'
  if (status < 200 || status > 299) return 'status'
  return vary === '*' ? 'varies' : undefined
}

/** How an upstream answer counts: 429 is a refusal, 5xx a failure (RFC 9110 section 15.6), all else an answer. */
export function resultOfStatus(status: number): 'answered' | 'refused' | 'failed' {
  if (status === 429) return 'refused'
  return status >= 500 ? 'failed' : 'answered'
}
