import { type BillingFacts, bucketMs, everyProvider } from './ledger-row.js'

export interface FactsInForce {
  /** Whether any provider was ever known to have limits or a quota. */
  readonly anyLimits: boolean
  /** Providers of which anything is known. */
  readonly providers: readonly string[]
  /** Since when anything is known of a provider. */
  since(provider: string): number
  /** When other facts of a provider as a whole came to be known, the first included; oldest first. */
  changes(provider: string): readonly number[]
  /** The newest rates. */
  readonly rates: BillingFacts['rates']
  quota(provider: string, bucket: number): BillingFacts['quota']
  plan(provider: string, bucket: number): BillingFacts['plan']
  limits(provider: string, bucket: number): BillingFacts['limits']
  /** What an endpoint's calls cost where that is another than the plan's price. */
  price(provider: string, endpoint: string, bucket: number): BillingFacts['price']
}

/**
 * Looks up what was known when a bucket was filled; for a bucket older than anything known, the first that came to be known.
 * `facts` come oldest first.
 */
export function factsInForce(facts: readonly BillingFacts[]): FactsInForce {
  const byPlace = new Map<string, Map<string | null, BillingFacts[]>>()
  for (const one of facts) {
    const its = byPlace.get(one.provider) ?? new Map<string | null, BillingFacts[]>()
    byPlace.set(one.provider, its)
    its.set(one.endpoint, [...(its.get(one.endpoint) ?? []), one])
  }
  const at = (provider: string, endpoint: string | null, bucket: number) => {
    const known = byPlace.get(provider)?.get(endpoint)
    if (!known || known.length === 1) return known?.[0]
    return known.findLast((one) => one.since < bucket + bucketMs) ?? known[0]
  }
  return {
    anyLimits: facts.some(({ limits, quota }) => limits !== undefined || quota !== undefined),
    rates: facts.findLast(({ provider }) => provider === everyProvider)?.rates,
    providers: [...byPlace.keys()].filter((name) => name !== everyProvider),
    changes: (provider) => (byPlace.get(provider)?.get(null) ?? []).map(({ since }) => since),
    since: (provider) => byPlace.get(provider)?.get(null)?.[0]?.since ?? Number.POSITIVE_INFINITY,
    quota: (provider, bucket) => at(provider, null, bucket)?.quota,
    plan: (provider, bucket) => at(provider, null, bucket)?.plan,
    limits: (provider, bucket) => at(provider, null, bucket)?.limits,
    price: (provider, endpoint, bucket) => at(provider, endpoint, bucket)?.price,
  }
}

/** Whether the newest facts of the same provider and endpoint say the same. `facts` come oldest first. */
export function isKnown(facts: readonly BillingFacts[], one: BillingFacts): boolean {
  const newest = facts.findLast(({ provider, endpoint }) => provider === one.provider && endpoint === one.endpoint)
  return newest !== undefined && sameFacts(newest, one)
}

/** Whether two facts say the same, whenever they began to hold. */
function sameFacts(one: BillingFacts, other: BillingFacts): boolean {
  return JSON.stringify(contents(one)) === JSON.stringify(contents(other))
}

function contents({ plan, price, quota, limits, exportZone, rates }: BillingFacts): unknown[] {
  return [plan, price, quota, limits, exportZone, rates]
}
