import { BudgetSpentError, HeldOffError, LimitReachedError, OfflineError } from '../../core/errors/call-errors.js'
import type { HttpAnswer } from './http-answer.js'

const statusTexts: Readonly<Record<number, string>> = { 429: 'Too Many Requests', 503: 'Service Unavailable', 504: 'Gateway Timeout' }

/**
 * The answer that stands for a refusal of ours, with problem details (RFC 9457) and `Retry-After` (RFC 9110 section 10.2.3), so that whoever
 * knows what to do about such an answer of a provider does it; undefined for other errors.
 */
export function refusalAnswer(error: unknown, now: number): HttpAnswer | undefined {
  const status = statusOf(error)
  if (status === undefined) return undefined
  const refusal = error as LimitReachedError | HeldOffError | BudgetSpentError | OfflineError
  const retryAt = 'retryAt' in refusal ? refusal.retryAt : null
  const problem = {
    ...{ type: 'about:blank', title: statusTexts[status], status, detail: refusal.message },
    ...{ code: refusal.code, provider: refusal.provider, endpoint: refusal.endpoint },
    ...(retryAt && { retryAt: retryAt.toISOString() }),
  }
  const seconds = retryAt ? Math.max(1, Math.ceil((retryAt.getTime() - now) / 1000)) : undefined
  return {
    ...{ status, statusText: statusTexts[status] ?? '', body: new TextEncoder().encode(JSON.stringify(problem)) },
    fields: [
      ['content-type', 'application/problem+json'],
      ['cache-control', 'no-store'],
      ...(seconds === undefined ? [] : [['retry-after', String(seconds)] as const]),
    ],
  }
}

function statusOf(error: unknown): 429 | 503 | 504 | undefined {
  if (error instanceof LimitReachedError || error instanceof BudgetSpentError) return 429
  if (error instanceof HeldOffError) return 503
  return error instanceof OfflineError ? 504 : undefined
}
