import type { StashConfig } from './config/stash-config.js'
import { defaults } from './core/defaults.js'
import type { Common } from './core/endpoints/compile.js'
import { compileProvider } from './core/endpoints/compile.js'
import { RuleBook } from './core/endpoints/rule-book.js'
import type { TermsCompiler } from './core/endpoints/terms.js'
import { unmatched } from './core/endpoints/unmatched.js'
import { invalidateAll } from './core/in-pieces.js'
import { OncePerEpisode } from './core/once-per-episode.js'
import { type Claiming, isClaimSelected } from './core/ports/claims.js'
import type { Clock } from './core/ports/clock.js'
import type { Store } from './core/ports/store.js'
import type { Mode } from './core/rules/mode.js'
import { BackgroundRefresh } from './engine/answer/background-refresh.js'
import { CallRunner } from './engine/answer/call-runner.js'
import { CallsInFlight } from './engine/answer/calls-in-flight.js'
import { ClaimedCalls } from './engine/answer/claimed-calls.js'
import { LookUp } from './engine/answer/look-up.js'
import type { PutParts } from './engine/answer/put-answer.js'
import { RunningCalls } from './engine/answer/running-calls.js'
import type { Warming } from './engine/answer/warming.js'
import { CallRecorder } from './engine/call/call-record.js'
import { Cancellation } from './engine/cancellation.js'
import type { Events } from './engine/events.js'
import type { Bounds } from './engine/gate/count-earlier.js'
import { Gate } from './engine/gate/gate.js'
import { StoreTime } from './engine/gate/store-time.js'
import { FetchHandler } from './engine/http/fetch-handler.js'
import type { Fetch } from './engine/http/http-upstream.js'
import { type Invalidate, Invalidation } from './engine/http/invalidation.js'
import { CallPreparation } from './engine/http/prepare-call.js'
import { LedgerWriter } from './engine/ledger/ledger-writer.js'
import { OutdatedExamples } from './engine/ledger/outdated-examples.js'
import { EntryWriter } from './engine/upstream/entry-writer.js'
import { RetryPolicy } from './engine/upstream/retry-policy.js'
import { UpstreamCalls } from './engine/upstream/upstream-calls.js'

/** What answers calls, put together on an opened store. */
export interface Assembly {
  readonly ledger: LedgerWriter
  readonly recorder: CallRecorder
  readonly running: RunningCalls
  readonly runner: CallRunner
  readonly http: FetchHandler
  readonly gate: Gate
  readonly inFlight: CallsInFlight
  readonly putting: PutParts
  readonly invalidation: Invalidation
  readonly warming: Warming
  readonly rules: Pick<RuleBook, 'match'>
  /** The upstream calls that have left and not ended. */
  readonly underWay: ReadonlySet<{ leave(): void }>
  /** What bounds the calls of each provider. */
  readonly bounds: readonly Bounds[]
}

export interface EngineParts {
  readonly store: Store
  readonly clock: Clock
  /** What is known of providers goes by it. Default: the clock's. */
  readonly time?: StoreTime
  readonly mode: Mode
  readonly events: Events
  readonly warn: (message: string) => void
  /** What really calls upstream, where the configuration does not say. */
  readonly fetch: Fetch
  /** What compiles limits, prices and timetables, where there are any. */
  readonly terms: TermsCompiler | undefined
  /** What reads protocols, where an endpoint speaks one. */
  readonly readers: Common['readers']
}

/** How much is remembered of requests, bytes at the most, beside a store that takes little memory; else which share of what it takes. */
const rememberedAlone = 1024 * 1024
const shareOfRemembered = 1 / 25
const mostRemembered = 128 * 1024 * 1024

/** Puts the engine together from a checked configuration. Does nothing yet. */
export function assemble(
  config: StashConfig,
  { store, clock, time = new StoreTime(clock, undefined), mode, events, warn, fetch, terms, readers }: EngineParts,
): Assembly {
  const { providers = {}, sets = {}, random = Math.random, refusals = defaults.refusals } = config
  const { entries } = store
  const self = `${Math.random()}`.slice(2, 12)
  const ledger = new LedgerWriter(store, self)
  const recorder = new CallRecorder(clock, events)
  const running = new RunningCalls(clock)
  const lookUp = new LookUp(entries, recorder, warn)
  const troubles = new OncePerEpisode(warn)
  const trouble = (what: string, error: unknown) => troubles.trouble(what, error, what)
  const gate = new Gate({
    ...{ store, clock, time, events, random, process: self },
    countOthers(provider, calls) {
      ledger.counter(provider, unmatched, mode).at(clock.now()).others += calls
    },
  })
  const examples = new OutdatedExamples(store.records)
  const entryWriter = new EntryWriter({
    outdated: (place, example) => void examples.keep(place, example, clock.now()),
    ...{ entries, clock, events, warn },
    countEvicted({ provider, endpoint, entries: number }, by) {
      const tally = ledger.counter(provider, endpoint, 'reuse').at(clock.now())
      tally.evicted += number
      if (by === 'endpoint') tally.trimmed += number
      events.tell('evicted', { provider, endpoint, entries: number, by })
    },
  })
  const underWay = new Set<{ leave(): void }>()
  const upstream = new UpstreamCalls({ clock, gate, events, trouble, entryWriter, underWay, retries: new RetryPolicy(clock, random) })
  const claimed = new ClaimedCalls(upstream, entries, gate, clock)
  const inFlight = new CallsInFlight(claimed, running)
  const refresh = new BackgroundRefresh(inFlight, claimed, clock)
  const runner = new CallRunner({ entries, clock, gate, lookUp, inFlight, refresh, recorder, running })
  const warming = { runner, refresh, clock, closing: new Cancellation() }
  const compiled = Object.entries(providers).map(([name, options]) =>
    compileProvider(name, options, { mode, sets, refusals, terms, readers }),
  )
  const rules = new RuleBook(compiled)
  const invalidate: Invalidate = (selection, itsMode) => {
    if (itsMode === 'measure') return entryWriter.measuredWrite(selection)
    const mayMean = (on: Omit<Claiming, 'storedAt' | 'over'>) => isClaimSelected(selection, on)
    inFlight.supersedeWhere(mayMean)
    return invalidateAll(clock, entries, selection, clock.now())
  }
  const invalidation = new Invalidation(rules, entries, invalidate)
  const calling = { clock, entries, entryWriter, lookUp, invalidation, trouble, fetch: config.fetch ?? fetch }
  const isFetchOfRuntime = config.fetch === undefined
  const preparation = new CallPreparation({ ...calling, rules, mode, refusals, ledger, warn, isFetchOfRuntime })
  const explaining = { rules, runner, gate, clock }
  const rememberedBytes = store.memoryBytes ? Math.min(store.memoryBytes * shareOfRemembered, mostRemembered) : rememberedAlone
  const putting = { entryWriter, inFlight, claimed, entries }
  const http = new FetchHandler({ preparation, runner, recorder, entries, clock, events, explaining, putting, rememberedBytes })
  return {
    underWay,
    ledger,
    recorder,
    running,
    runner,
    http,
    gate,
    inFlight,
    putting,
    invalidation,
    warming,
    rules,
    bounds: compiled.map(({ rest }) => rest),
  }
}
