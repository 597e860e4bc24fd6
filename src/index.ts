// Opening a stash

export type { LedgerOptions, StashConfig } from './config/stash-config.js'
export type { Forward } from './core/decide/decide.js'
export { invalidatedTimes, type StoredTimes } from './core/decide/entry-times.js'
export type { EventListener, EventName, EventPlace, EvictedBy, HoldOffFacts, StashEvents, UpstreamCallFacts } from './core/decide/events.js'
// How a call was answered
export type { Explanation, NearMiss } from './core/decide/explanation.js'
export type { NotKept } from './core/decide/keep.js'
export type { FoundIn, Layer } from './core/decide/layer.js'
export type { Outcome } from './core/decide/outcome.js'
export { type Reason, reasons } from './core/decide/reasons.js'
export type { Trust } from './core/decide/trust.js'
export type {
  AnswerInstead,
  AtLimit,
  CallOptions,
  Collapse,
  CountBy,
  EndpointOptions,
  EndpointTerms,
  FreshOptions,
  InvalidatedLabel,
  NamedEndpointOptions,
  NamedRule,
  PriceOptions,
  Refusals,
  ReuseExceptions,
  ReuseOptions,
  ReuseTerms,
  RuleOptions,
  TimeoutOptions,
} from './core/endpoints/options.js'
export type { ProviderOptions, QuotaOptions, UsageExportOptions } from './core/endpoints/provider-options.js'
export type { EntryState } from './core/entries/entry-state.js'
export type { Imported } from './core/entries/har.js'
export type { EntrySelector } from './core/entries/selector.js'
export type { StoredEntry } from './core/entries/stored-entry.js'
export type { WarmProgress, WarmSummary } from './core/entries/warm-summary.js'
// Errors
export {
  ArgumentsUnkeyableError,
  BrokenBodyError,
  BudgetSpentError,
  CallError,
  CallOverdueError,
  HeldOffError,
  LimitReachedError,
  NothingStoredError,
  OfflineError,
  RefusedError,
  UpstreamTimeoutError,
} from './core/errors/call-errors.js'
export { type ErrorCode, errorCodes } from './core/errors/catalogue.js'
export { ConfigError, type ConfigFault, MissingPackageError, StashClosedError, StoreError, UsageError } from './core/errors/setup-errors.js'
export { isStashenError, StashenError } from './core/errors/stashen-error.js'
export type { ServerSentEvent } from './core/http/server-sent-events.js'
export type { LifetimeSource } from './core/http/stored-head.js'
export type { BillForecast, MoneyRange } from './core/ledger/bill-forecast.js'
export { isKnown as areFactsKnown } from './core/ledger/facts-in-force.js'
export type { JournalLine } from './core/ledger/journal-line.js'
// Reports
export type { KeyReport, KeysReport } from './core/ledger/keys-report.js'
export type { BillingFacts, ExchangeRates, Grain, LedgerAccount, LedgerMode, LedgerRow } from './core/ledger/ledger-row.js'
export { placeOfRow } from './core/ledger/ledger-row.js'
export type { Credits, PricedPeriod } from './core/ledger/provider-prices.js'
export type {
  AgeChanges,
  Avoided,
  Comparison,
  Converted,
  EndpointReport,
  Figures,
  LabelReport,
  OutdatedExample,
  Percentiles,
  ProviderReport,
  QuotaUse,
  Report,
  TimeReport,
  Without,
} from './core/ledger/report-model.js'
export { sumTallies } from './core/ledger/sum-tallies.js'
export type { TallyCount, TallyCounts, TallyData } from './core/ledger/tally-data.js'
export type { BudgetLevel, BudgetOptions, BudgetTerms } from './core/limits/budget.js'
export type { CallForecast, CallRange, ForecastMethod, QuotaForecast } from './core/limits/forecast.js'
export type { LimitKind, LimitOptions, WindowedCalls, WindowKind, WindowUnit } from './core/limits/limit.js'
export type { Quota } from './core/limits/quota.js'
export type { BudgetStatus, HoldOffStatus, LimitStatus, ProviderStatus } from './core/limits/status.js'
export type { Money } from './core/money/money.js'
export type { CountedAt, PlanOptions, PlanTerms, PlanTier, Rounding, UnbilledOutcome } from './core/money/plan.js'
export type { Units } from './core/money/units.js'
export type { Claim, ClaimEnd, Claimed, Claiming, Claims, Shown } from './core/ports/claims.js'
export { claimMs, endSeenMs, isClaimSelected } from './core/ports/claims.js'
export type { Clock } from './core/ports/clock.js'
export { pageOf } from './core/ports/entry-pages.js'
export type {
  Dropped,
  Entry,
  EntryPage,
  EntryStore,
  EntrySummary,
  EntryUsage,
  Evicted,
  Piece,
  PutResult,
  StoreSize,
  Trimmed,
} from './core/ports/entry-store.js'
export { evictedOf } from './core/ports/evictions.js'
export type { Journal } from './core/ports/journal.js'
export type { LedgerBatch, LedgerSpan, LedgerStore } from './core/ports/ledger-store.js'
export type { Maybe } from './core/ports/maybe.js'
export { isSelected, type Selection } from './core/ports/selection.js'
export type { SharedRecord, SharedRecords } from './core/ports/shared-records.js'
export type { Opening, Store, StoreFacts } from './core/ports/store.js'
export type { EndpointSize, StoreStatus } from './core/ports/store-status.js'
export type { Documents, Protocol } from './core/protocols/protocol.js'
export type { CredentialOptions } from './core/rules/credentials.js'
export type { FailureOptions } from './core/rules/failure.js'
export type { AnswerFacts, FreshnessFunction } from './core/rules/freshness.js'
export type { KeyedRequest, KeyFunction, KeyOptions } from './core/rules/keying.js'
export type { EndpointLabel, LabelFromAnswer, LabelFromArgument, LabelFromQuery, Labels } from './core/rules/labels.js'
export type { Mode } from './core/rules/mode.js'
export type { UnitSource, UnitSources } from './core/rules/units.js'
export type { CalendarPeriod } from './core/time/calendar-period.js'
export type { Duration } from './core/time/duration.js'
export type { Moment } from './core/time/moment.js'
export type { Timetable, Weekday } from './core/time/timetable.js'
export type { PutAnswer } from './engine/answer/put-answer.js'
export type { WarmOptions } from './engine/answer/warm-options.js'
export type { Fetch } from './engine/http/http-upstream.js'
export type { KeepWarmOptions, WarmList, WarmLists } from './engine/http/keep-warm.js'
export type { WarmRequest } from './engine/http/warm-request.js'
export type { AsyncFunction, OperationLabel } from './engine/operation/operation-labels.js'
export type { ValueForm } from './engine/operation/operation-value.js'
export type { Operation, OperationOptions } from './engine/operation/wrap-operation.js'
export { loadEverything } from './load-everything.js'
export { openStash } from './open-stash.js'
export type { ChangeOptions, ImportOptions, MostUsedOptions, ReportBy, ReportOptions, Stash, StashStatus } from './stash.js'
// Stores and time
export { type MemoryStoreOptions, memoryStore } from './stores/memory/store.js'
