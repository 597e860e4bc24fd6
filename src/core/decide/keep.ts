/** Why an answer was not stored. */
export type NotKept = 'status' | 'varies' | 'partial' | 'not-plain-data' | 'not-reusable'

/** Fields whose variation cannot mix up answers: `fetch` decodes every coding, and an origin that a request names is part of its key. */
const harmless = ['accept-encoding', 'origin']

/** Whether an HTTP answer may be stored: undefined if so, else why not. Only plain successes are, until a rule says more. */
export function whyNotKept(status: number, vary: string | null): NotKept | undefined {
  if (status === 206) return 'partial'
  if (status < 200 || status > 299) return 'status'
  if (vary?.split(',').some((field) => !harmless.includes(field.trim().toLowerCase()))) return 'varies'
  return undefined
}

/** How an upstream answer counts: 429 is a refusal, 5xx a failure (RFC 9110 section 15.6), all else an answer. */
export function resultOfStatus(status: number): 'answered' | 'refused' | 'failed' {
  if (status === 429) return 'refused'
  return status >= 500 ? 'failed' : 'answered'
}
