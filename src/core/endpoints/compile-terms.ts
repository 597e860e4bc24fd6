import Big from 'big.js'
import { defaults } from '../defaults.js'
import { compileBudget } from '../limits/budget.js'
import { compileLimit, compileQuota } from '../limits/limit.js'
import { quotaPeriod } from '../limits/quota.js'
import type { Money } from '../money/money.js'
import { unitsUpTo } from '../rules/units.js'
import type { Endpoint } from './endpoint.js'
import type { ReuseOptions } from './options.js'
import type { ProviderOptions, QuotaOptions } from './provider-options.js'
import { quotaOf } from './quota-of.js'
import type { Terms } from './terms.js'

export { nextPublication } from '../time/next-publication.js'

/** Compiles what bounds the calls of an endpoint or operation, and what they cost. */
export function compileTerms(endpoint: string, reuse: ReuseOptions, options: ProviderOptions): Terms {
  return {
    limits: [
      ...(options.quota ? [compileQuota(quotaOf(options.quota))] : []),
      ...(options.limits ?? []).map((limit) => compileLimit(limit)),
      ...(reuse.limits ?? []).map((limit) => compileLimit(limit, endpoint)),
    ],
    price: priceOfCall(options, reuse),
    spending: compileSpending(options, reuse),
    reportedQuota: options.quota && reportedQuotaOf(options.quota),
  }
}

function compileSpending({ budgets = [], plan }: ProviderOptions, { perCall, weight = 1, units }: ReuseOptions): Endpoint['spending'] {
  if (budgets.length === 0) return undefined
  return {
    budgets: budgets.map((budget) => compileBudget(budget, plan)),
    price: { perCall, weight, unbilled: plan?.notBilled ?? [], unitsUpTo: unitsUpTo(units) },
  }
}

/** The price of one call, where every call has the same. */
function priceOfCall({ plan }: ProviderOptions, { perCall, weight = defaults.weight }: ReuseOptions): Money | undefined {
  if (!plan) return undefined
  const { currency } = plan
  if (perCall !== undefined) return { currency, amount: perCall }
  const flat = plan.perCall !== undefined && plan.included === undefined && plan.changes === undefined
  return flat ? { currency, amount: new Big(plan.perCall as string).times(weight).toFixed() } : undefined
}

function reportedQuotaOf(options: QuotaOptions): Endpoint['reportedQuota'] {
  const quota = quotaOf(options)
  return { ...quota, header: options.remaining?.header.toLowerCase(), endAt: (now) => quotaPeriod(quota, now).end }
}
