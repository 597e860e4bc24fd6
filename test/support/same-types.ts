import type { z } from 'zod'
import type { budget } from '../../src/config/budget-schema.js'
import type { plan } from '../../src/config/plan-schema.js'
import type { provider } from '../../src/config/provider-schema.js'
import type { callOptionsSchema, reuse, rule } from '../../src/config/reuse-schema.js'
import type { configSchema, operationSchema } from '../../src/config/schema.js'
import type { StashConfig } from '../../src/config/stash-config.js'
import type { CallOptions, NamedEndpointOptions, ReuseOptions, RuleOptions } from '../../src/core/endpoints/options.js'
import type { ProviderOptions } from '../../src/core/endpoints/provider-options.js'
import type { BudgetOptions } from '../../src/core/limits/budget.js'
import type { PlanOptions } from '../../src/core/money/plan.js'
import type { OperationOptions } from '../../src/engine/operation/wrap-operation.js'

/** True where every option is known to both, and whatever the types take validation takes. */
type Fits<Input, Public> = [Public] extends [Input]
  ? [keyof Input] extends [keyof Public]
    ? [keyof Public] extends [keyof Input]
      ? true
      : never
    : never
  : never
type Given<S extends z.ZodRawShape> = z.input<z.ZodObject<S>>

/** Does not compile where an option of the schema and its public type differ. */
export const sameTypes: readonly true[] = [
  true satisfies Fits<z.input<typeof callOptionsSchema>, CallOptions>,
  true satisfies Fits<Given<typeof reuse>, ReuseOptions>,
  true satisfies Fits<Given<typeof rule>, RuleOptions>,
  true satisfies Fits<z.input<typeof provider>, ProviderOptions>,
  true satisfies Fits<Extract<NonNullable<z.input<typeof provider>['endpoints']>, readonly unknown[]>[number], NamedEndpointOptions>,
  true satisfies Fits<z.input<typeof operationSchema>, OperationOptions>,
  true satisfies Fits<z.input<typeof configSchema>, StashConfig>,
  true satisfies Fits<z.input<typeof budget>, BudgetOptions>,
  true satisfies Fits<z.input<typeof plan>, PlanOptions>,
]

/** What validation rejects, the types reject: each line fails to compile without its directive. */
export const rejected: readonly unknown[] = [
  // @ts-expect-error: one way of saying how long an answer is fresh
  { freshFor: '1 min', freshUntil: { daily: '06:00', zone: 'UTC' } } satisfies ReuseOptions,
  // @ts-expect-error: a price of its own counts towards nothing else in the plan
  { perCall: '0.1', weight: 2 } satisfies ReuseOptions,
  // @ts-expect-error: money or calls
  { budgets: [{ money: '1', calls: 1 }] } satisfies ProviderOptions,
  // @ts-expect-error: money or calls
  { budgets: [{ per: 'day' }] } satisfies ProviderOptions,
  // @ts-expect-error: windows have no bursts
  { limits: [{ calls: 1, per: 'minute', burst: 2, window: 'fixed' }] } satisfies ProviderOptions,
  // @ts-expect-error: calls at once have no window
  { limits: [{ atOnce: 1, per: 'minute' }] } satisfies ProviderOptions,
  // @ts-expect-error: one body
  { fallback: { json: 1, text: '1' } } satisfies Partial<NamedEndpointOptions>,
  // @ts-expect-error: a timetable says one rhythm
  { freshUntil: { daily: '06:00', weekly: 'monday', zone: 'UTC' } } satisfies ReuseOptions,
  // @ts-expect-error: where a number of units is, once
  { units: { tokens: { at: '/a', header: 'b' } } } satisfies ReuseOptions,
]
