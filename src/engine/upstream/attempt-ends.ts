import type { WithheldFor } from '../../core/decide/decide.js'
import { BudgetSpentError, HeldOffError, LimitReachedError } from '../../core/errors/call-errors.js'
import type { Fetched, Finished, WithAnswer } from '../call/fetched.js'
import type { Ended } from './landed.js'

/** The failure that a complete answer turned out to be: an error where it broke off; else the answer itself, which says so. */
export function lateFailure<T>(fetched: WithAnswer<T>, finished: Finished): Fetched<T> {
  return 'broken' in finished ? { result: 'failed', error: finished.broken } : { ...fetched, result: 'failed' }
}

/** What kept a call from leaving. */
export function withheldFor(error: unknown): Exclude<WithheldFor, 'overdue'> | undefined {
  if (error instanceof HeldOffError) return 'held-off'
  if (error instanceof BudgetSpentError) return 'budget-spent'
  return error instanceof LimitReachedError ? 'limit-reached' : undefined
}

/** What becomes of an answer that is for its caller alone. */
export function notReused(finished: Finished): Ended {
  if ('broken' in finished || 'abandoned' in finished) return finished
  return 'amiss' in finished ? { amiss: true } : { notStored: 'not-reusable' }
}
