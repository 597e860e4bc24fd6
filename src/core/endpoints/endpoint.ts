import type { KeepRule } from '../decide/keep.js'
import type { Spending } from '../limits/budget.js'
import type { HoldOffRule } from '../limits/hold-off.js'
import type { Limit } from '../limits/limit.js'
import type { ReportedQuota } from '../limits/reported-limits.js'
import type { Money } from '../money/money.js'
import type { CountedAt, UnbilledOutcome } from '../money/plan.js'
import type { Units } from '../money/units.js'
import type { Documents, ProtocolReader } from '../protocols/protocol.js'
import type { FailureRule } from '../rules/failure.js'
import type { CallerRule, KeyedRequest, Keying } from '../rules/keying.js'
import type { LabelSource } from '../rules/labels.js'
import type { Mode } from '../rules/mode.js'
import type { RequestTemplate } from '../rules/request-template.js'
import type { UnitSources } from '../rules/units.js'
import type { AnswerInstead, AtLimit, CountBy, Refusals } from './options.js'

/** What is known of one endpoint or operation once its options are compiled. Times are milliseconds. */
export interface Endpoint extends KeepRule {
  readonly provider: string
  readonly name: string
  readonly mode: Mode
  readonly version: number | undefined
  /** The longest that an answer can be fresh, milliseconds; undefined where nothing may be stored. */
  readonly freshForMs: number | undefined
  /** How long after it was stored an answer can be made fresh by use, milliseconds; undefined where use does not. */
  readonly slidingMs: number | undefined
  readonly maxBodyBytes: number
  /** Undefined where only the store bounds them. */
  readonly maxEntries: number | undefined
  readonly holdOff: HoldOffRule
  /** `totalMs`: undefined where there is no limit. `leaseMs`: nothing heard of a call for so long, it is taken to have ended. */
  readonly timeouts: {
    readonly firstByteMs: number
    readonly idleMs: number
    readonly totalMs: number | undefined
    readonly leaseMs: number
  }
  /** How long a pause that the provider asks for is believed; undefined where that is as long as usual. */
  readonly believeUpToMs: number | undefined
  /** Whether its calls leave through the gate of a provider. */
  readonly isGated: boolean
  /** Whether answers are handed on as they come, whatever their media type. */
  readonly isStream: boolean
  /** Whether callers wait for all of an answer, unless it is a stream: only that says whether it is a failure, and whose. */
  readonly isGivenWhole: boolean
  readonly refusals: Refusals
  readonly withinMs: number | undefined
  readonly retries: { readonly upTo: number; readonly share: number }
  readonly refreshAheadMs: number
  /** Those of its provider and its own. */
  readonly limits: readonly Limit[]
  readonly atLimit: AtLimit
  readonly maxWaitMs: number
  /** How many calls may wait for a turn at its provider. */
  readonly queue: number
  readonly neverStale: boolean
  /** Whether its callers wait for upstream calls of other processes. */
  readonly collapsesAll: boolean
  readonly failure: FailureRule
  /** What to count separately. */
  readonly countBy: CountBy | undefined
  readonly units: UnitSources | undefined
  /** The most units that one call can use, as far as that is said. */
  readonly unitsUpTo: Units
  /** Whether a call belongs to the billing period in which it left, or in which it ended. */
  readonly countedAt: CountedAt
  /** Price of one call, where a plan is known. */
  readonly price: Money | undefined
  /** Ways for a call to end that the plan does not bill. */
  readonly unbilled: readonly UnbilledOutcome[]
  /** What its calls are compared with, where its provider has budgets. */
  readonly spending: Spending | undefined
  /** Where an answer says what is left of the provider's quota. */
  readonly reportedQuota: ReportedQuota | undefined
}

/** An endpoint that covers HTTP requests. */
export interface RequestEndpoint extends Endpoint {
  readonly template: RequestTemplate
  readonly keying: Keying
  readonly exceptRequest: ((request: KeyedRequest) => boolean) | undefined
  readonly labels: readonly LabelSource[] | undefined
  /** Labels that its calls invalidate. */
  readonly invalidates: readonly LabelSource[] | undefined
  readonly replaySetCookie: boolean
  readonly fallback: AnswerInstead | undefined
  /** Whether anything is to be done about its calls but to send them on. */
  readonly isTended: boolean
  /** Whether a call may be made again (RFC 9110 section 9.2.1). */
  readonly repeatable: boolean
  readonly spoken: Spoken | undefined
}

/** The protocol of an endpoint, with what holds for its calls by their names. */
export interface Spoken {
  readonly reader: ProtocolReader
  readonly documents: Documents | undefined
  /** What holds for a call that `byName` does not name. */
  readonly usual: ByKind
  readonly byName: ReadonlyMap<string, ByKind>
}

/** Rules for calls that ask, and for those that write. */
export interface ByKind {
  readonly query: RequestEndpoint
  readonly write: RequestEndpoint
  /** What holds where the protocol does not tell. */
  readonly unknown: RequestEndpoint
}

/** A provider once its options are compiled. */
export interface Provider extends CallerRule {
  readonly name: string
  readonly mode: Mode
  readonly base: { readonly origin: string; readonly segments: readonly string[] } | undefined
  /** Whether its paths are matched without regard to case: then those of its base and templates are in small letters. */
  readonly ignoresCase: boolean
  readonly endpoints: readonly RequestEndpoint[]
  /** Stands for calls to the provider that no endpoint covers. */
  readonly rest: RequestEndpoint
}
