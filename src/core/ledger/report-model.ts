import type { QuotaForecast } from '../limits/forecast.js'
import type { BudgetStatus } from '../limits/status.js'
import type { Money } from '../money/money.js'
import type { CalendarPeriod } from '../time/calendar-period.js'
import type { BillForecast } from './bill-forecast.js'
import type { KeysReport } from './keys-report.js'
import type { Credits, PricedPeriod } from './provider-prices.js'

/** Milliseconds, within 1%; null stands where nothing was measured. */
export interface Percentiles {
  readonly median: number
  readonly p95: number
}

/** How many stored answers up to an age, and older than the one before, had changed by then, and had not. `upToMs`, within 2%: null for all older ones. */
export interface AgeChanges {
  readonly upToMs: number | null
  readonly changed: number
  readonly unchanged: number
}

/** What happened to the calls of one endpoint, one provider or all of them, in one way of working. */
export interface Figures {
  /** Calls of the application. */
  readonly asked: number
  /** Calls that left for the provider. */
  readonly upstream: number
  /** Upstream calls answered with 304: the stored answer still held. */
  readonly unmodified: number
  /** Upstream calls answered with 429. */
  readonly refused: number
  /** Upstream calls that gave no answer, a broken one or a server error (5xx). */
  readonly failed: number
  /** Upstream calls that nobody waited for, and that repeated a failed one. They are part of `upstream` and of its price. */
  readonly background: number
  readonly repeated: number
  /** Calls answered by a fresh stored answer. */
  readonly fromStore: number
  /** Calls answered by a stored answer past its freshness. */
  readonly stale: number
  /** Of these, calls given one though nothing had failed: while it was refreshed, or because the request accepts it. */
  readonly staleByChoice: number
  /** How old the oldest of these answers was, milliseconds; null where there is none. */
  readonly oldestStaleMs: number | null
  /**
   * Answers from store, fresh or not, where it has layers: from copies in the process that asked, and from what all share; and of the latter those whose copy had run
   * out though they were the same still. Where most are, copies are kept for too short a time (`nearFor`).
   */
  readonly near: number
  readonly far: number
  readonly reread: number
  /** How old answers from store were. */
  readonly ageMs: Percentiles | null
  /**
   * Callers who waited for an upstream call because nothing was stored for them yet, and how long in all, milliseconds: what warming spares others. Those who joined such a call
   * are `collapsed`.
   */
  readonly firstCalls: number
  readonly firstWaitMs: number
  /** Calls answered by the endpoint's default. */
  readonly fallback: number
  /** Calls that shared the upstream call of another caller. */
  readonly collapsed: number
  /** Calls whose caller got an error, a refusal or a server error. */
  readonly errored: number
  /** Calls whose caller left before the end. */
  readonly abandoned: number
  /** Of the errored and abandoned, calls for which none left: Stashen refused them, or their caller had gone before. */
  readonly withheld: number
  /** Upstream calls that all who waited for them gave up: billed as answered where an answer had begun. */
  readonly upstreamAbandoned: number
  /** Refreshed answers that differed from the one before, and that did not. */
  readonly changed: number
  readonly unchanged: number
  /** How often answers had changed by their age, each time that one was compared with the upstream's: youngest first. */
  readonly changes: readonly AgeChanges[]
  /** Stored answers that could not be read, and were dropped. */
  readonly corrupt: number
  /** Answers that were not stored though their endpoint has a freshness: how many, by why, as outcomes say it (`notStored`). */
  readonly notStored: Readonly<Record<string, number>>
  /** Answers that were dropped from the store to make room while they were fresh. */
  readonly evicted: number
  /** Of these, those dropped because their endpoint had more than `maxEntries`, or an answer more than 100 variants. */
  readonly trimmed: number
  /** Upstream calls for an answer that was dropped so and would have been fresh still, and what they cost, which is part of \`money\`. */
  readonly refetched: number
  readonly paidTwice: readonly Money[]
  /**
   * Upstream calls that may have used units which their answers do not tell, so that `money` is estimated: at the most that one call can use
   * (`upTo`), without it at none.
   */
  readonly unitsUnknown: number
  /** While only measuring: calls that reuse would have answered from store. */
  readonly wouldHit: number
  /** Calls that reuse would have made besides: to refresh answers in the background, and again after failures (once each, at the least). */
  readonly wouldRefresh: number
  readonly wouldRepeat: number
  /** Of these, calls to which the upstream gave another answer than the stored one would have been. */
  readonly wouldBeOutdated: number
  /** Price of the upstream calls, one amount a currency; empty where no price is known. */
  readonly money: readonly Money[]
  /** How long callers waited. */
  readonly latencyMs: Percentiles | null
  /** How long answered upstream calls took. */
  readonly upstreamMs: Percentiles | null
}

/**
 * What would have happened without the stash. `measured`: counted while it only measured the same calls of every endpoint. `estimated`: the
 * calls that left while measuring; of those while reusing the first of each caller's that left, by how it ended, and one for each answer
 * that was saved; without those that the declared limits and quota would have refused, which are listed separately and cost nothing.
 * What cannot be known so is null. One basis holds for all of a report.
 */
export type Without =
  | ({ readonly basis: 'measured' } & Figures)
  | {
      readonly basis: 'estimated'
      readonly asked: number
      readonly upstream: number
      /** The fewest that windows of limits, and the quota, would have refused. */
      readonly refused: number
      readonly failed: null
      readonly errored: null
      readonly money: readonly Money[]
      /** That of the upstream calls that were made. */
      readonly latencyMs: Percentiles | null
    }

/**
 * What is saved: calls that got a good answer without an upstream call of their own (or by one that the plan does not bill, 304). Money is what
 * would have been billed without the stash less what was, background calls and repetitions included, one amount a currency.
 */
export interface Avoided {
  readonly calls: number
  /** Upstream calls without less those with: less than `calls` by those made in the background and repeated. */
  readonly upstreamCalls: number
  readonly money: readonly Money[]
  /**
   * How much longer callers would have waited in all, milliseconds: the mean time of the endpoint's upstream calls for each call answered
   * without one, less what those took. Null where that is not known.
   */
  readonly timeMs: number | null
}

/** One line of a report: the same calls without and with the stash. */
export interface Comparison {
  readonly without: Without
  /** Null where the stash has only measured. */
  readonly with: Figures | null
  /** Without minus with; null where there is nothing to compare. */
  readonly saved: Avoided | null
  /** What reuse would have saved of the calls measured: their number, and their price. Null where nothing was measured. */
  readonly couldSave: Avoided | null
}

export interface QuotaUse {
  readonly limit: number
  readonly per: CalendarPeriod
  readonly zone: string
  /** The period looked at: the one that the last call of the report falls in. */
  readonly from: Date
  readonly until: Date
  /** Upstream calls of the period up to the report's end, while only measuring and while reusing. */
  readonly used: { readonly measuring: number; readonly reusing: number }
  /** What the provider itself said is left now, and how many fewer that is than were counted here; null where it said nothing. */
  readonly reported: { readonly left: number; readonly fewer: number } | null
  /** Calls made up to some moments of the period, with the stash and without it. */
  readonly course: readonly { readonly at: Date; readonly without: number; readonly with: number }[]
  /** How it will be used up to its reset, where the report ends in the middle of the period and there is enough to tell by. */
  readonly forecast: { readonly with: QuotaForecast | null; readonly without: QuotaForecast | null }
}

export interface EndpointReport extends Comparison {
  readonly endpoint: string
  /** Where `wouldBeOutdated` is not 0: two measured calls, the later of which reuse would have answered with the outdated answer of the earlier. */
  readonly outdatedExample?: OutdatedExample
}

/** Two calls under one key whose answers differed, though the first was fresh still: by its method and URL without credentials, or the operation. */
export interface OutdatedExample {
  readonly first: { readonly request: string; readonly at: Date }
  readonly second: { readonly request: string; readonly at: Date }
}

export interface ProviderReport extends Comparison {
  readonly provider: string
  readonly endpoints: readonly EndpointReport[]
  /** The same calls by whose they are, where any endpoint counts these apart; without fees. */
  readonly labels?: readonly LabelReport[]
  /** What of the money belongs to no endpoint, such as base fees: with it the endpoints add up to the provider. */
  readonly fees: { readonly without: readonly Money[]; readonly with: readonly Money[] | null }
  /** What each billing period costs, or so much of it as falls into the report: by the calls made while reusing, else while measuring. */
  readonly periods: readonly PricedPeriod[]
  readonly quota: QuotaUse | null
  /** How far the budgets of the provider are spent as of its last call; empty in a report that ends before that. */
  readonly budgets: readonly BudgetStatus[]
  /** What the billing period in which the report ends will cost; null where there is none, or too little to tell. */
  readonly bill: BillForecast | null
  /** Credits bought in advance, by the calls made while reusing, else while measuring; null where the plan has none. */
  readonly credits: Credits | null
}

/** The calls of a provider that were made for somebody, by endpoints that count these apart (`countBy`). */
export interface LabelReport extends Comparison {
  /** Null: of nobody in particular; `(others)`: of those after the first 100. */
  readonly label: string | null
}

/** One hour or day of a report. */
export interface TimeReport extends Comparison {
  /** Its begin and end; it is longer than asked for where the ledger has put older buckets together. */
  readonly from: Date
  readonly until: Date
  /** Whether the report covers only a part of it. */
  readonly partial: boolean
}

/** Everything a report says, as plain data: what `stash.report` returns and `stashen report --json` prints. */
export interface Report {
  /** Begin of the first and end of the last time bucket that holds a call; null where there is none. */
  readonly since: Date | null
  readonly until: Date | null
  /** What "saved" means in it, in a sentence. */
  readonly savedMeans: string
  readonly providers: readonly ProviderReport[]
  /** The same calls by hours or days, where that was asked for. */
  readonly times?: readonly TimeReport[]
  /** The keys that saved most calls, where that was asked for. */
  readonly byKey?: KeysReport
  readonly totals: Comparison
  /** Rows of the ledger, and plans, prices and quotas in it, that could not be read and are left out; absent where there are none. */
  readonly unreadable?: { readonly rows: number; readonly facts: number }
  /** All money in one currency, where the configuration gives rates for every other. */
  readonly converted?: Converted
}

/** Money of all currencies in one, by the rates known at the report's end; rounded a half up to its decimals (ISO 4217). */
export interface Converted {
  readonly currency: string
  /** What one unit of a currency is in this one: decimals, by ISO 4217 code. */
  readonly rates: Readonly<Record<string, string>>
  readonly without: Money
  readonly with: Money | null
  readonly saved: Money | null
}
