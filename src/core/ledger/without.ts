import { billedCalls, isBilled } from '../money/billed-calls.js'
import type { PlanOptions } from '../money/plan.js'
import type { Tally } from './tally.js'

type Terms = Pick<PlanOptions, 'notBilled'>

/** What is saved, in one sentence. */
export const savedMeans =
  'Saved are calls that got a good answer without a billed upstream call of their own, at the price of that answer, less what was called in the background or again; what was refused or failed saves nothing.'

/** Answers that took no upstream call of their own: fresh from store, older ones that nothing forced, and those of another's call. */
function sharedAnswers({ hit, staleByChoice, collapsed }: Tally): number {
  return hit + staleByChoice + collapsed
}

/** Older answers given because calls had failed a moment ago, where the plan would have billed the next failed call. */
function failuresAvoided({ staleHeldOff }: Tally, { notBilled = [] }: Terms): number {
  return isBilled(notBilled, 'noAnswer') && isBilled(notBilled, 'serverError') ? staleHeldOff : 0
}

/** Calls that were saved: answers without an upstream call of their own, or by one that the plan does not bill (304). */
export function savedCalls(tally: Tally, terms: Terms): number {
  const unmodified = isBilled(terms.notBilled ?? [], 'unmodified') ? 0 : tally.upUnmodified - tally.moreUnmodified
  return sharedAnswers(tally) + unmodified + failuresAvoided(tally, terms)
}

/** Upstream calls that reuse would have avoided of those measured, less those that it would have made besides: all of them, or those billed. */
export function wouldAvoid({ wouldHit, wouldHitUnbilled, wouldRefresh, wouldRepeat }: Tally, which: 'all' | 'billed'): number {
  return wouldHit - (which === 'billed' ? wouldHitUnbilled : 0) - wouldRefresh - wouldRepeat
}

/** Calls that would have left without the stash: the first of each caller's that left, and one for each answer that was saved. */
export function callsWithout(tally: Tally, terms: Terms): number {
  const { moreAnswered, moreRefused, moreFailed, moreAbandoned } = tally
  return tally.upstream - moreAnswered - moreRefused - moreFailed - moreAbandoned + sharedAnswers(tally) + failuresAvoided(tally, terms)
}

/** How many of these a plan would have billed: those that left as they ended, but that a 304 would have been an answer. */
export function billedWithout(plan: Terms, tally: Tally): number {
  return billedCalls(plan, {
    upAnswered: tally.upAnswered - tally.moreAnswered + sharedAnswers(tally),
    upUnmodified: 0,
    upClientError: tally.upClientError - tally.moreClientError + tally.savedClientError,
    upRefused: tally.upRefused - tally.moreRefused,
    upFailed: tally.upFailed - tally.moreFailed + failuresAvoided(tally, plan),
    upServerError: tally.upServerError - tally.moreServerError,
    upAbandoned: tally.upAbandoned - tally.moreAbandoned,
    upUnanswered: tally.upUnanswered - tally.moreUnanswered,
  })
}
