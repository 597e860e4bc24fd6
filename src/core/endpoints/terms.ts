import type { NextPublication } from '../rules/freshness.js'
import type { Endpoint } from './endpoint.js'
import { endpointRules } from './endpoint-rules.js'
import type { ReuseOptions } from './options.js'
import type { ProviderOptions } from './provider-options.js'
import type { Sets } from './resolve-rule.js'

/** What of an endpoint takes calendars or decimals to be known. */
export type Terms = Pick<Endpoint, 'limits' | 'price' | 'spending' | 'reportedQuota'>

/** What compiles terms, `compile-terms.ts`: it brings calendars and decimals along, so it is loaded where there are any. */
export interface TermsCompiler {
  compileTerms(endpoint: string, reuse: ReuseOptions, options: ProviderOptions): Terms
  readonly nextPublication: NextPublication
}

export const noTerms: Terms = { limits: [], price: undefined, spending: undefined, reportedQuota: undefined }

/** Whether an endpoint or operation has limits, prices or a timetable. */
export function hasTerms(
  { limits = [], freshUntil }: ReuseOptions,
  { quota, plan, limits: its = [], budgets = [] }: ProviderOptions,
): boolean {
  return limits.length > 0 || freshUntil !== undefined || quota !== undefined || plan !== undefined || its.length > 0 || budgets.length > 0
}

/** Whether any endpoint of a configuration has limits, prices or a timetable. */
export function haveTerms(providers: Readonly<Record<string, ProviderOptions>>, sets: Sets): boolean {
  return Object.values(providers).some(
    (options) => hasTerms({}, options) || endpointRules(options, sets).some(({ rule }) => hasTerms(rule, options)),
  )
}
