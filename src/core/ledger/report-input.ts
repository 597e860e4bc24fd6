import type { BudgetStatus, ProviderStatus } from '../limits/status.js'
import type { BillingFacts, TallyRow } from './ledger-row.js'

/** What a report is computed from. */
export interface ReportInput {
  /** Every row from `since` or `rowsSince`, whichever is earlier, to the end of the report. */
  readonly rows: readonly TallyRow[]
  readonly facts: readonly BillingFacts[]
  /** Rows older than this count only towards quotas and places in billing periods. */
  readonly since: number
  /** End of the time reported, exclusive: what was asked for, at the latest the present. */
  readonly until: number
  /** Whether the plan of a provider is in use to the end, so that it charges its fees though nothing is called; else to the last call. */
  readonly isInUse?: (provider: string) => boolean
  /** Rows of the last weeks before `until` by the hour, from which quotas are forecast; without them none is. */
  readonly recent?: readonly TallyRow[]
  /** How providers stand, where the report ends now. */
  readonly standing?: ReadonlyMap<string, ProviderStatus>
  /** How far the budgets of providers are spent, as of the last call, where the report goes up to it. */
  readonly budgets?: ReadonlyMap<string, readonly BudgetStatus[]>
  /** Whether calls are also reported by the hours or days of a time zone. */
  readonly times?: { readonly by: 'hour' | 'day'; readonly zone: string } | undefined
}
