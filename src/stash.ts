/// <reference lib="esnext.disposable" preserve="true" />
import type { EventListener, EventName } from './core/decide/events.js'
import type { Explanation } from './core/decide/explanation.js'
import type { Outcome } from './core/decide/outcome.js'
import type { CallOptions } from './core/endpoints/options.js'
import type { Imported } from './core/entries/har.js'
import type { EntrySelector } from './core/entries/selector.js'
import type { StoredEntry } from './core/entries/stored-entry.js'
import type { WarmSummary } from './core/entries/warm-summary.js'
import type { Report } from './core/ledger/report-model.js'
import type { ProviderStatus } from './core/limits/status.js'
import type { StoreStatus } from './core/ports/store-status.js'
import type { Duration } from './core/time/duration.js'
import type { Moment } from './core/time/moment.js'
import type { Timetable } from './core/time/timetable.js'
import type { PutAnswer } from './engine/answer/put-answer.js'
import type { WarmOptions } from './engine/answer/warm-options.js'
import type { Fetch } from './engine/http/http-upstream.js'
import type { KeepWarmOptions, WarmLists } from './engine/http/keep-warm.js'
import type { WarmRequest } from './engine/http/warm-request.js'
import type { Operation, OperationOptions } from './engine/operation/wrap-operation.js'

export interface ReportOptions {
  /** Begin of what is reported; of a time of which only longer buckets are kept, the first of them that begins then. Default: the ledger's begin. */
  readonly since?: Moment
  /** End of what is reported, exclusive. Default: the ledger's end. */
  readonly until?: Moment
  /** IANA time zone in which moments in words, and dates without an offset, are read. Default `"UTC"`. */
  readonly zone?: string
  /**
   * Whether calls are also told by the hours or days of the zone, or by key, which needs a journal; or by provider alone, or by whose they are (`countBy`). Default: by
   * endpoint.
   */
  readonly by?: ReportBy
}

export const reportBys = ['endpoint', 'provider', 'hour', 'day', 'key', 'label'] as const
export type ReportBy = (typeof reportBys)[number]

/** Which requests are looked for that were asked for most. */
export interface MostUsedOptions {
  /** How many. Default 100. */
  readonly count?: number
  /** The time that is looked at. Default: all that the journal has, until now. */
  readonly since?: Moment
  readonly until?: Moment
  /** IANA time zone in which moments in words are read. Default `"UTC"`. */
  readonly zone?: string
}

/** How an archive is imported. */
export interface ImportOptions {
  /** Called after each answer: how many are done, stored or not, and of how many. */
  readonly onProgress?: (progress: { readonly done: number; readonly of: number }) => void
}

/** How stored answers are changed. */
export interface ChangeOptions {
  /** Only says how many it would be. Default false. */
  readonly dryRun?: boolean
  /** That a selector which says nothing means everything, as it does. Default false. */
  readonly everything?: boolean
}

/** How things stand at a moment. */
export interface StashStatus {
  readonly at: Date
  readonly store: StoreStatus
  /** Their moments are by the store's clock, where it has one (`store.clockAheadMs`). */
  readonly providers: readonly ProviderStatus[]
}

/** One opened instance of the library. */
export interface Stash extends AsyncDisposable {
  /**
   * Does what the global `fetch` does, with the same arguments, and answers repeated calls from store as their endpoint says.
   * Answers of endpoints carry `Cache-Status` (RFC 9211) and, from store, `Age`. Requests that no endpoint covers go by untouched
   * and are counted. Rejects as `fetch` does; with `UpstreamTimeoutError` when the provider's time is over, `BrokenBodyError` when the
   * body breaks off, `LimitReachedError` and `HeldOffError` when the call may not go out now, `CallOverdueError` when its own time is
   * over, each only where no older answer may be given. May be handed to others without its stash.
   */
  readonly fetch: Fetch
  /**
   * Wraps a function that calls a provider, under a name `provider.operation`. The result is called like `fn`. Throws `ConfigError`
   * for wrong options or a name already in use. A call whose arguments give no key rejects with code `ARGUMENTS_UNKEYABLE`.
   * Values that cannot be given back exactly as they were, such as instances of classes, are passed on and not stored.
   */
  // biome-ignore lint/suspicious/noExplicitAny: arguments without a type of their own are of any
  operation<This, Args extends any[], Value>(
    name: `${string}.${string}`,
    fn: (this: This, ...args: Args) => Promise<Value>,
    options?: OperationOptions<(this: This, ...args: Args) => Promise<Value>>,
  ): Operation<(this: This, ...args: Args) => Promise<Value>>
  /** The same stash, called on other terms than the rules': `stash.calling({ background: true }).fetch` is a `fetch` for a nightly batch. */
  calling(options: CallOptions): { readonly fetch: Fetch }
  /** The endpoint that covers requests of a method for a URL, as `provider.endpoint`; undefined where none does. */
  covers(method: string, url: string | URL): string | undefined
  /** How a call was answered, by its response, or by the error it ended in; undefined for what does not come from this stash. */
  outcomeOf(responseOrError: unknown): Outcome | undefined
  /** Tells a listener of each event of a name; returns an unsubscribe function. */
  on<N extends EventName>(name: N, listener: EventListener<N>): () => void
  /** What a request would do now, and why: endpoint, near misses, key, stored answer, decision. Nothing is called, stored or counted. */
  explain(...request: Parameters<Fetch>): Promise<Explanation>
  /** Whether an answer is stored for a request that a call would get now, without an upstream call. Nothing is called or counted. */
  has(...request: Parameters<Fetch>): Promise<boolean>
  /**
   * Stores an answer that the application has of another source, such as a job, a webhook or a write that it just made, as if a call had brought it now: for
   * as long as the rule, and its header fields, say. Reads the body of the answer. Nothing is called or counted; what is on its way to the same key comes too
   * late. Rejects with code `USAGE` where no endpoint covers the request. `at`: when it came, where that is over: its age counts from then, and a newer answer
   * that is stored stays.
   *
   * ```ts
   * await stash.put('https://tides.ebbline.example/v2/stations/kelpmouth', Response.json({ name: 'Kelpmouth' }))
   * ```
   */
  put(request: Parameters<Fetch>[0], answer: Response, options?: { readonly at?: Moment }): Promise<PutAnswer>
  /** The stored answers that a selector means, in the order of their keys, without their bodies. Throws code `USAGE` for a selector that is none. */
  entries(selector?: EntrySelector): AsyncIterable<StoredEntry>
  /**
   * Ends the freshness of stored answers: they are asked for again before they are used, and stay for when that fails (`staleIfError`, `offline`). What of
   * them is on its way already, in any process, is not stored. Returns how many these are. Throws code `USAGE` for a selector that is none, or that means
   * everything without `everything: true`.
   */
  invalidate(selector: EntrySelector, options?: ChangeOptions): Promise<{ readonly entries: number }>
  /** Drops stored answers, as `invalidate` invalidates them. The ledger stays. */
  purge(selector: EntrySelector, options?: ChangeOptions): Promise<{ readonly entries: number }>
  /**
   * Drops the stored answers that are worth keeping no longer, for no rule lets them be given any more, before their room is needed: a store does so itself then.
   * Mode `offline`, which takes answers of any age, has them no more. Returns how many these were.
   */
  sweep(): Promise<{ readonly entries: number }>
  /**
   * The stored answers that a selector means as an HTTP Archive (HAR 1.2), piece by piece, without credentials: to look into with any tool, or to seed another
   * stash with, which has them back exactly.
   *
   * ```ts
   * await writeFile('answers.har', stash.export({ provider: 'ebbline' }))
   * ```
   */
  export(selector?: EntrySelector): AsyncIterable<string>
  /**
   * Stores the answers of an HTTP Archive (HAR 1.2), given as text or as what `JSON.parse` made of it: those that a stash exported exactly as they were, all
   * others, such as those that a browser captured, by their rules and as of when they came. What is stored and newer stays. Nothing is called or counted.
   * Rejects with code `USAGE`, with nothing stored, where it is not an archive, and with `STASH_CLOSED` where
   * the stash is closed meanwhile: what was stored by then stays. `onProgress`: called after each answer.
   */
  import(har: unknown, options?: ImportOptions): Promise<Imported>
  /**
   * Fetches answers in advance, for calls that nobody has made yet: as background calls, which wait for their turn at limits and leave all others their share.
   * They cost what they cost, and count as asked by nobody: they are no saving. Resolves with what came of it, also where single calls fail.
   *
   * ```ts
   * await stash.warm(await stash.mostUsed({ count: 200, since: 'yesterday' }), { headers: { authorization } })
   * ```
   */
  warm(requests: Iterable<WarmRequest> | AsyncIterable<WarmRequest>, options?: WarmOptions): Promise<WarmSummary>
  /**
   * Warms at once, and then at every moment of a timetable or after each duration, until the returned function is called, the signal aborts or the stash closes. `requests`: a list, or
   * a function that returns one anew each time. A time that fails is told once, and tried again at the next.
   *
   * ```ts
   * stash.keepWarm({ daily: '05:30', zone: 'Europe/Oslo' }, () => stash.mostUsed({ count: 200, since: 'yesterday' }), { renew: true })
   * ```
   */
  keepWarm(when: Duration | Timetable, requests: WarmLists, options?: KeepWarmOptions): () => void
  /** The URLs of GET requests that were asked for most, by the journal, most first. Rejects with code `USAGE` without a journal. */
  mostUsed(options?: MostUsedOptions): Promise<string[]>
  /**
   * How the providers stand that were called, as all who share the store know it, and how the store does. `endpoints`: also how much is stored of each endpoint,
   * for which all that is stored is gone through.
   */
  status(options?: { readonly endpoints?: boolean }): Promise<StashStatus>
  /**
   * Forgets the pauses, reported limits and hold-offs of a provider, for all who share the store: its next call leaves if nothing else
   * forbids it. Declared limits, quotas and budgets stay. Throws code `USAGE` for a provider that is not configured.
   */
  forgive(provider: string): Promise<void>
  /** What happened to all calls of a stretch of time, of every process that shares the store. */
  report(options?: ReportOptions): Promise<Report>
  /** Waits for running calls, for as long as `closeWithin` says, writes the ledger and closes the store. Closing twice is harmless. */
  close(): Promise<void>
}
