import { type BillingFacts, bucketMs } from './ledger-row.js'

export interface FactsInForce {
  quota(provider: string, bucket: number): BillingFacts['quota']
  plan(provider: string, endpoint: string, bucket: number): BillingFacts['plan']
}

/**
 * Looks up what was known when a bucket was filled; for a bucket older than anything known, the first that came to be known.
 * An endpoint of which nothing is known has its provider's plan. `facts` come oldest first.
 */
export function factsInForce(facts: readonly BillingFacts[]): FactsInForce {
  const at = (provider: string, endpoint: string | null, bucket: number) => {
    const known = facts.filter((one) => one.provider === provider && one.endpoint === endpoint)
    return known.findLast((one) => one.since < bucket + bucketMs) ?? known[0]
  }
  return {
    quota: (provider, bucket) => at(provider, null, bucket)?.quota,
    plan: (provider, endpoint, bucket) => (at(provider, endpoint, bucket) ?? at(provider, null, bucket))?.plan,
  }
}

/** The newest facts of the same provider and endpoint. `facts` come oldest first. */
export function newestLike(facts: readonly BillingFacts[], { provider, endpoint }: BillingFacts): BillingFacts | undefined {
  return facts.findLast((one) => one.provider === provider && one.endpoint === endpoint)
}

/** Whether two facts say the same, whenever they began to hold. */
export function sameFacts(one: BillingFacts, other: BillingFacts): boolean {
  return JSON.stringify([one.plan, one.quota]) === JSON.stringify([other.plan, other.quota])
}
