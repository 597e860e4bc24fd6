import type { ReuseOptions } from '../endpoints/options.js'
import type { ProviderOptions } from '../endpoints/provider-options.js'
import { quotaOf } from '../endpoints/quota-of.js'
import { windowOf } from '../limits/limit.js'
import type { BillingFacts } from './ledger-row.js'

/** What the ledger must know of a provider, or of one of its endpoints or operations. */
export function factsOf(
  provider: string,
  options: ProviderOptions,
  since: number,
  endpoint?: { name: string; reuse: ReuseOptions },
): BillingFacts {
  const { quota, usageExport } = options
  return {
    provider,
    endpoint: endpoint?.name ?? null,
    since,
    plan: endpoint ? undefined : options.plan,
    price: endpoint?.reuse && priceOf(endpoint.reuse),
    quota: endpoint || !quota ? undefined : quotaOf(quota),
    exportZone: endpoint ? undefined : usageExport?.zone,
    limits: endpoint ? undefined : windowsOf(options),
  }
}

function windowsOf({ limits = [] }: ProviderOptions): BillingFacts['limits'] {
  const windows = limits.map(windowOf).filter((window) => window !== undefined)
  return windows.length > 0 ? windows : undefined
}

function priceOf({ perCall, weight }: ReuseOptions): BillingFacts['price'] {
  return perCall === undefined && weight === undefined ? undefined : { perCall, weight }
}
