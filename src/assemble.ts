import type { StashConfig } from './config/stash-config.js'
import type { Mode } from './core/decide/mode.js'
import { unmatched } from './core/ledger/ledger-row.js'
import type { Clock } from './core/ports/clock.js'
import type { Store } from './core/ports/store.js'
import { compileProvider } from './core/rules/compile.js'
import { RuleBook } from './core/rules/rule-book.js'
import { Books } from './engine/books.js'
import { CallRunner } from './engine/call-runner.js'
import type { Bounds } from './engine/count-earlier.js'
import type { Events } from './engine/events.js'
import { Gate } from './engine/gate.js'
import { HttpCalls } from './engine/http-calls.js'
import { Keeper } from './engine/keeper.js'
import { UpstreamCalls } from './engine/upstream-calls.js'

/** What answers calls, put together on an opened store. */
export interface Assembly {
  readonly books: Books
  readonly runner: CallRunner
  readonly http: HttpCalls
  readonly gate: Gate
  /** What bounds the calls of each provider. */
  readonly bounds: readonly Bounds[]
}

export interface Surroundings {
  readonly store: Store
  readonly clock: Clock
  readonly mode: Mode
  readonly events: Events
  readonly warn: (message: string) => void
}

/** Puts the engine together from a checked configuration. Does nothing yet. */
export function assemble(
  { providers = {}, sets = {}, fetch, chance = Math.random }: StashConfig,
  { store, clock, mode, events, warn }: Surroundings,
): Assembly {
  const books = new Books(store, clock)
  const process = String(chance()).slice(2, 12)
  const gate = new Gate({
    ...{ store, clock, events, chance, process },
    countOthers(provider, calls) {
      books.line(provider, unmatched, mode).at(clock.now()).others += calls
    },
  })
  const upstream = new UpstreamCalls({ clock, gate, events, chance, keeper: new Keeper(store, clock, warn) })
  const runner = new CallRunner({ store, clock, events, gate, upstream })
  const compiled = Object.entries(providers).map(([name, options]) => compileProvider(name, options, { mode, sets }))
  const rules = new RuleBook(compiled)
  const http = new HttpCalls({
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
