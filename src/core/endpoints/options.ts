import type { Trust } from '../decide/trust.js'
import type { LimitOptions } from '../limits/limit.js'
import type { Documents, Protocol } from '../protocols/protocol.js'
import type { FailureOptions } from '../rules/failure.js'
import type { AnswerFacts, FreshnessFunction } from '../rules/freshness.js'
import type { KeyedRequest, KeyFunction, KeyOptions } from '../rules/keying.js'
import type { EndpointLabel, LabelFromQuery, Labels } from '../rules/labels.js'
import type { Mode } from '../rules/mode.js'
import type { UnitSources } from '../rules/units.js'
import type { Duration } from '../time/duration.js'
import type { Timetable } from '../time/timetable.js'

/** How the answers of an endpoint or operation are treated, but for how long they are fresh and what they cost. */
export interface ReuseTerms {
  /** Spreads the end of freshness over this last share (0 to 1) of it, so that answers stored together do not expire together. */
  readonly jitter?: number
  /** Freshness of answers with some statuses, by status: `{ 404: '1 min', 204: 'never' }`. Others than successes are kept only so. */
  readonly freshForStatus?: Readonly<Record<number, Duration | 'never'>>
  /** Each use of an answer makes it fresh for `freshFor` again, up to this long after it was stored. */
  readonly sliding?: { readonly upTo: Duration }
  /**
   * Whether this rule says how an answer is kept, or the upstream by its header fields (RFC 9111), or whichever of them is stricter.
   * With `upstream` the rule holds where the upstream says nothing. Default `rule`.
   */
  readonly trust?: Trust
  /** How long past its freshness an answer may be given out while it is refreshed (RFC 5861 section 3). Default: not at all. */
  readonly staleWhileRevalidate?: Duration
  /** How long past its freshness an answer may be given out when a refresh fails (RFC 5861 section 4). Default: never. */
  readonly staleIfError?: Duration
  /** Whether an answer past its freshness is never given out, whatever else allows it, but in mode `offline`. Default false. */
  readonly neverStale?: boolean
  /** Answers that count as failures besides 5xx, 429 and JSON that does not parse. */
  readonly failsWhen?: FailureOptions
  /**
   * How long nobody asks again after calls failed: `first` (default 1 s), twice as long after each further failure, up to `upTo` (default
   * 5 min); a duration alone is the first. Callers meanwhile get an older answer, or `HeldOffError`. 0: never, which is the default of
   * operations, whose errors may be about their arguments, and of endpoints whose answers are not stored.
   */
  readonly holdOff?: Duration | { readonly first?: Duration; readonly upTo?: Duration }
  /**
   * How long one upstream call may take: until its first byte (`firstByte`, default 30 s), between two pieces of its answer (`idle`,
   * default 30 s), and in all (`total`, default: no limit). A duration alone is the total. Default: the provider's.
   */
  readonly timeout?: TimeoutOptions
  /** How long a caller waits at the most for an answer to begin, whatever happens meanwhile. Default: as long as all else takes. */
  readonly within?: Duration
  /**
   * How often a failed call is made again, where repeating it is safe: GET, HEAD, a `safe` POST, an operation that says so here. `share`:
   * the share of recent calls to the provider that may be repetitions. Default: never; 0.1.
   */
  readonly retries?: number | { readonly upTo: number; readonly share?: number }
  /** How long before its end of freshness an answer that is in use is refreshed, where limits have room. Default: never. */
  readonly refreshAhead?: Duration
  /** Limits of the endpoint, besides the provider's. */
  readonly limits?: readonly LimitOptions[]
  /**
   * What a caller gets who would pass a limit: an `older-answer`, where one may be given, else a place in the queue; a place in the queue
   * (`wait`), and an older answer only when it gets no turn; or at once an error (`refuse`). Default `older-answer`.
   */
  readonly atLimit?: AtLimit
  /** How long a call waits in the queue at the most; then `LimitReachedError`. Default 10 s. */
  readonly maxWait?: Duration
  /** `never`: nothing is stored, whatever `freshFor` a set or the provider's defaults give. Or which calls are excepted from reuse. */
  readonly reuse?: 'never' | ReuseExceptions
  /** Bytes of a body kept at the most; larger answers are passed on and not stored. Default 1 MiB. */
  readonly maxBodyBytes?: number
  /** Maximum number of responses kept, within 10%; those used least recently go first. Default: as many as the store has room for. */
  readonly maxEntries?: number
  /**
   * What to count separately, so that costs can be passed on: by what `per` returns, or by the label that each call is given.
   * The first 100 names are distinguished, all others counted together. They stand in the ledger as they are. Default: nothing.
   */
  readonly countBy?: CountBy
  /**
   * Whose upstream call under way a caller may get the answer of: one of `all-processes` that share the store, where that knows of them, or only of its
   * `own-process`. Default `all-processes`.
   */
  readonly collapse?: Collapse
  /** Where it is another than the provider's. */
  readonly mode?: Mode
  /** Raise it when the code that reads the answers changed: those stored under another version count as absent, and stay for it. */
  readonly version?: number
  /** Where the units stand that an answer cost, by their names in the plan, e.g. `{ tokens: { at: "/usage/tokens" } }`. */
  readonly units?: UnitSources
}

/** How long answers are fresh: for a time, or until the next publication. Without either nothing is stored, calls are only counted. */
export type FreshOptions =
  | {
      /** How long an answer is fresh, or a function of the answer that says so. Where it fails the answer is not stored, and `warn` is called. */
      readonly freshFor?: Duration | FreshnessFunction
      readonly freshUntil?: undefined
    }
  | {
      /** For what is published on a timetable: an answer is fresh until the next publication. */
      readonly freshUntil?: Timetable
      readonly freshFor?: undefined
    }

/** What a call costs, where that is not as the plan says for every call. */
export type PriceOptions =
  | {
      /** Price of one call: a decimal string in the plan's currency. Such calls count towards nothing else in the plan. */
      readonly perCall?: string
      readonly weight?: undefined
    }
  | {
      /** How many calls of the plan one call counts as, e.g. 5 where a search costs 5 credits. Default 1. */
      readonly weight?: number
      readonly perCall?: undefined
    }

/** How the answers of an endpoint or operation are treated. */
export type ReuseOptions = ReuseTerms & FreshOptions & PriceOptions

export const collapses = ['all-processes', 'own-process'] as const
export type Collapse = (typeof collapses)[number]

export const countBys = ['per', 'label'] as const
export type CountBy = (typeof countBys)[number]

export type TimeoutOptions = Duration | { readonly firstByte?: Duration; readonly idle?: Duration; readonly total?: Duration }

export const refusals = ['throw', 'respond'] as const
/**
 * What a call ends in that Stashen itself refuses, by a limit, a budget, a hold-off or while offline: an error, or a response with status
 * 429, 503 or 504, `Retry-After`, `Cache-Status` and problem details (RFC 9457), which an SDK treats like one of the provider.
 */
export type Refusals = (typeof refusals)[number]

export const atLimits = ['older-answer', 'wait', 'refuse'] as const
export type AtLimit = (typeof atLimits)[number]

/** What one call wants otherwise than its rule says. */
export interface CallOptions {
  /** Whether an answer past its freshness is refused for this call. */
  readonly neverStale?: boolean
  readonly atLimit?: AtLimit
  readonly maxWait?: Duration
  readonly within?: Duration
  /** Whether nobody waits for it: it comes after others, and leaves them their share of every limit. */
  readonly background?: boolean
  readonly refusals?: Refusals
  /** Whether a new answer is asked for, whatever is stored; it takes the place of what is. */
  readonly reload?: boolean
  /** Whether the call is made as if there were no store: nothing stored is used, and the answer is not stored. */
  readonly bypass?: boolean
  /** What the call is made for, as its outcome, events, journal lines and spans name it: 1 to 100 characters, and no secret, for it is written as it is. */
  readonly label?: string
  /** Ends the wait of the caller when it aborts. One that is given to `fetch` beside the URL comes before it, and it before that of a `Request`. */
  readonly signal?: AbortSignal
}

/** An answer given where the upstream fails and no older answer may be given. Its body is plain JSON data, or text. */
export type AnswerInstead = {
  /** Default 200. */
  readonly status?: number
  readonly headers?: Readonly<Record<string, string>>
} & ({ readonly json?: unknown; readonly text?: undefined } | { readonly text?: string; readonly json?: undefined })

/** What is never reused. Where a function fails, nothing is reused either, and `warn` is told. */
export interface ReuseExceptions {
  /** Requests that are sent on as if there were no store. */
  readonly exceptRequest?: (request: KeyedRequest) => boolean
  /** Answers that are not stored. */
  readonly exceptAnswer?: (answer: AnswerFacts) => boolean
}

/** Reuse options that may refer to named sets of them. What is said here wins over the sets, and later sets over earlier ones. */
export type RuleOptions = ReuseOptions & {
  /** Names of option sets in the configuration's `sets`. */
  readonly set?: string | readonly string[]
}

/** A label that a write invalidates. The answer that a function gets has a status and header fields, and no body. */
export type InvalidatedLabel = string | LabelFromQuery | ((request: KeyedRequest, answer: AnswerFacts) => Labels)

/** Which requests an endpoint covers, and what only requests can have. */
export interface EndpointTerms {
  /**
   * Method and path template below the base URL, with query values that must be there, e.g. `"GET /stations/{id}/tides?kind=spring"`.
   * `{name}` stands for one segment, a last `*` for one or more. The most specific endpoint wins: at the first segment where two
   * differ, a literal before `{name}` before `*`; then the one with more query values.
   */
  readonly request: string
  /** Which parts of a request tell its answer from others. Default: method, URL and body. */
  readonly keyedBy?: KeyOptions | KeyFunction
  /**
   * Names under which its answers are invalidated with others (`stash.invalidate({ label })`), of whatever endpoint: texts, in which `{id}` is that parameter of
   * the path; `{ as: "tariff {}", query: "tariff" }`; `{ as: "vessel {}", answer: "/vessels", each: "/id" }`; or functions. An answer is not stored whose
   * function fails. Credentials in them are left out.
   */
  readonly labels?: readonly EndpointLabel[]
  /**
   * Labels whose answers a write invalidates that was answered with a status below 400, before its caller has the answer: as `labels`, but of the request
   * and the head of the answer alone. Besides, it invalidates what is stored for its URL with whatever query, and for what `Location` and
   * `Content-Location` name (RFC 9111 section 4.4).
   */
  readonly invalidates?: readonly InvalidatedLabel[]
  /**
   * Whether callers with different credentials may share an answer. Then the header fields of a trusted upstream are read as a shared
   * cache does (RFC 9111: `s-maxage`, `private`, `proxy-revalidate`, answers to `Authorization`), else as a private one. Default false.
   */
  readonly shared?: boolean
  /** Tells tenants apart: calls for which it returns different texts never share an answer. */
  readonly per?: (request: KeyedRequest) => string
  /** Says that a POST only asks (RFC 9110 section 9.2.1), so that its answer may be reused. Default false. */
  readonly safe?: boolean
  /**
   * What its bodies are. With `graphql` (GraphQL over HTTP) queries are reusable, mutations, subscriptions and what cannot be told are writes. With
   * `json-rpc` (JSON-RPC 2.0) the methods are reusable that `byName` gives a freshness, all others are writes. Responses with errors are failures. Ids do not
   * count in keys. Each call of a batch is answered, counted and stored by itself; those that leave do so in one batch. Default: none, a body is a body.
   */
  readonly protocol?: Protocol
  /** What holds for some operations (GraphQL) or methods (JSON-RPC) otherwise than for the endpoint, by their names. In reports they are `endpoint.name`. */
  readonly byName?: Readonly<Record<string, NamedRule>>
  /** Texts of GraphQL documents by the ids or hashes that clients send in place of them, as code generators write them. */
  readonly documents?: Documents
  /** Fields that count before `Cache-Control` where the upstream is trusted, first to last, e.g. `["CDN-Cache-Control"]` (RFC 9213). */
  readonly targetedFields?: readonly string[]
  /** What a caller gets where the upstream fails and no older answer may be given. Default: the failure itself. */
  readonly fallback?: AnswerInstead
  /** Whether cookies that an answer sets are set again for later callers. Default false. */
  readonly replaySetCookie?: boolean
  /**
   * Whether answers are handed on piece by piece as they come, also where an older answer could take their place should they break off.
   * Default: by media type (`text/event-stream`, `application/x-ndjson`, `multipart/x-mixed-replace`).
   */
  readonly stream?: boolean
  /** What refusals end in. Default: the provider's. */
  readonly refusals?: Refusals
}

/** A rule for one operation or method of an endpoint with a `protocol`. */
export type NamedRule = RuleOptions & Pick<EndpointTerms, 'labels' | 'invalidates'>

/** A named rule of a provider: which requests it covers and how their answers are treated. */
export type EndpointOptions = RuleOptions & EndpointTerms

/** An endpoint in a list, where its name stands beside its options. */
export type NamedEndpointOptions = EndpointOptions & { readonly name: string }
