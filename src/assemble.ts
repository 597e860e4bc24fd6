import type { StashConfig } from './config/stash-config.js'
import { compileProvider } from './core/endpoints/compile.js'
import { RuleBook } from './core/endpoints/rule-book.js'
import { unmatched } from './core/endpoints/unmatched.js'
import type { Clock } from './core/ports/clock.js'
import type { Store } from './core/ports/store.js'
import type { Mode } from './core/rules/mode.js'
import { CallRunner } from './engine/answer/call-runner.js'
import type { Events } from './engine/events.js'
import type { Bounds } from './engine/gate/count-earlier.js'
import { Gate } from './engine/gate/gate.js'
import { FetchHandler } from './engine/http/fetch-handler.js'
import { LedgerWriter } from './engine/ledger/ledger-writer.js'
import { EntryWriter } from './engine/upstream/entry-writer.js'
import { UpstreamCalls } from './engine/upstream/upstream-calls.js'

/** What answers calls, put together on an opened store. */
export interface Assembly {
  readonly books: LedgerWriter
  readonly runner: CallRunner
  readonly http: FetchHandler
  readonly gate: Gate
  /** What bounds the calls of each provider. */
  readonly bounds: readonly Bounds[]
}

export interface EngineParts {
  readonly store: Store
  readonly clock: Clock
  readonly mode: Mode
  readonly events: Events
  readonly warn: (message: string) => void
}

/** Puts the engine together from a checked configuration. Does nothing yet. */
export function assemble(
  { providers = {}, sets = {}, fetch, random = Math.random }: StashConfig,
  { store, clock, mode, events, warn }: EngineParts,
): Assembly {
  const books = new LedgerWriter(store, clock)
  const process = String(random()).slice(2, 12)
  const gate = new Gate({
    ...{ store, clock, events, random, process },
    countOthers(provider, calls) {
      books.line(provider, unmatched, mode).at(clock.now()).others += calls
    },
  })
  const upstream = new UpstreamCalls({ clock, gate, events, random, entryWriter: new EntryWriter(store, clock, warn) })
  const runner = new CallRunner({ store, clock, events, gate, upstream })
  const compiled = Object.entries(providers).map(([name, options]) => compileProvider(name, options, { mode, sets }))
  const rules = new RuleBook(compiled)
  const http = new FetchHandler({
    rules,
    store,
    clock,
    mode,
    books,
    runner,
    gate,
    events,
    warn,
    fetch: fetch ?? ((input, init) => globalThis.fetch(input, init)),
  })
  return { books, runner, http, gate, bounds: compiled.map(({ rest }) => rest) }
}
