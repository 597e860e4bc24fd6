import { assemble } from './assemble.js'
import { checkCallOptions, checkConfig, checkOperation } from './config/check.js'
import { withNearest } from './config/nearest-name.js'
import type { StashConfig } from './config/stash-config.js'
import { eventNames } from './core/decide/events.js'
import { defaults } from './core/defaults.js'
import { compileEndpoint } from './core/endpoints/compile.js'
import { endpointRules, speaks } from './core/endpoints/endpoint-rules.js'
import type { ProviderOptions } from './core/endpoints/provider-options.js'
import { resolveRule } from './core/endpoints/resolve-rule.js'
import { hasTerms, haveTerms, type TermsCompiler } from './core/endpoints/terms.js'
import { unmatched } from './core/endpoints/unmatched.js'
import { StashClosedError, UsageError } from './core/errors/setup-errors.js'
import { shown } from './core/errors/shown.js'
import { factsOf } from './core/ledger/billing-facts.js'
import { everyProvider } from './core/ledger/ledger-row.js'
import { calendarCode, loadCalendars } from './core/limits/calendars.js'
import { OncePerEpisode } from './core/once-per-episode.js'
import type { Store } from './core/ports/store.js'
import { ownCopy } from './core/rules/own-copy.js'
import { durationMs } from './core/time/duration.js'
import { Events } from './engine/events.js'
import { StoreTime } from './engine/gate/store-time.js'
import type { Fetch } from './engine/http/http-upstream.js'
import type { AsyncFunction } from './engine/operation/operation-labels.js'
import { operationLater } from './engine/operation/operation-later.js'
import type { Operation, OperationOptions, WrapParts } from './engine/operation/wrap-operation.js'
import { systemClock, turnsBy } from './engine/system-clock.js'
import { entryMethods } from './entry-methods.js'
import { beforeLeaving } from './leaving.js'
import { onDemand } from './loaded-later.js'
import type { ReportOptions, Stash } from './stash.js'
import { guardedStore } from './stores/guarded/store.js'
import { MemoryRecords } from './stores/memory/records.js'
import { memoryStore } from './stores/memory/store.js'
import { keepingOf, sweepNowAndThen } from './sweeping.js'

/** What `openStash` does; `fetch`: what really calls upstream, where the configuration does not say. */
export async function buildStash(config: StashConfig, fetch: Fetch): Promise<Stash> {
  checkConfig(config)
  const { terms, readers, JournalWriter } = await codeFor(config)
  const { providers = {}, sets = {}, clock = systemClock, mode = defaults.mode, refusals = defaults.refusals } = config
  const warn = config.warn ?? ((message) => console.warn(`stashen: ${message}`))
  const events = new Events(warn)
  const store = guardedStore(config.store ?? memoryStore(), {
    clock,
    timeLimitMs: durationMs(config.storeTimeout ?? defaults.storeTimeout) as number,
    openWithout: config.openWithoutStore ?? false,
    trouble(message, error) {
      warn(message)
      events.tell('store-trouble', { message, error })
    },
    recovered: () => events.tell('recovered', { what: 'store' }),
    corrupt({ provider, endpoint }, key, error) {
      const spot = { provider: textOr(provider, unmatched), endpoint: textOr(endpoint, unmatched) }
      ledger.counter(spot.provider, spot.endpoint, mode).at(clock.now()).corrupt++
      events.tell('corrupt-entry', { ...spot, key, error })
    },
  })
  await store.open({ now: clock.now(), warn })
  const time = new StoreTime(clock, config.clock === undefined && config.store?.time ? () => store.time() : undefined) // another clock may tell another time
  await time.measure()
  await rememberFacts(store, config, clock.now())
  const stopSweeping = mode === 'offline' ? async () => {} : sweepNowAndThen(store, clock, keepingOf(config.ledger))

  const { ledger, recorder, running, runner, http, gate, inFlight, putting, invalidation, warming, rules, bounds, underWay } = assemble(
    config,
    {
      store,
      clock,
      time,
      mode,
      events,
      warn,
      fetch,
      terms,
      readers,
    },
  )
  if (terms && mode !== 'offline') {
    for (const one of bounds) await terms.countEarlier({ store, clock: turnsBy(clock) }, time.now(), one).catch(() => undefined) // told by the store's guard
  }
  const journal = config.journal && JournalWriter && new JournalWriter(config.journal, { clock, events, warn })
  const taken = new Set(
    Object.entries(providers).flatMap(([name, options]) => endpointRules(options, sets).map((rule) => `${name}.${rule.name}`)),
  )
  let closing: Promise<void> | undefined
  const stopListening = beforeLeaving({
    write() {
      void gate.settle()
      void ledger.write()
      void journal?.write()
    },
    leave(isOver) {
      if (isOver) {
        recorder.leave()
        for (const call of [...underWay]) call.leave()
      }
      void gate.settle()
      ledger.leave()
      journal?.leave()
    },
  })

  function assertOpen(): void {
    if (closing) throw new StashClosedError()
  }

  const parts: WrapParts = {
    entries: store.entries,
    clock,
    ledger,
    runner,
    recorder,
    events,
    gate,
    putting,
    invalidateLabels: (labels) => invalidation.of(labels),
    warming,
    running,
    warn,
    assertOpen,
    checkCallOptions,
  }

  function operation<F extends AsyncFunction>(id: string, fn: F, given: OperationOptions<F> = {}): Operation<F> {
    assertOpen()
    checkOperation(id, fn, given, taken, config)
    const options = ownCopy(given)
    taken.add(id)
    const [provider = '', name = ''] = id.split('.')
    const itsOptions = Object.hasOwn(providers, provider) ? (providers[provider] as ProviderOptions) : {}
    const reuse = resolveRule(options, itsOptions, sets)
    void store.ledger.addFacts(factsOf(provider, itsOptions, clock.now(), { name, reuse }))
    const isTimed = hasTerms(reuse, itsOptions)
    const wrapped = ({ wrapOperation }: typeof import('./engine/operation/wrap-operation.js'), terms: TermsCompiler | undefined) =>
      wrapOperation(
        compileEndpoint(provider, name, reuse, itsOptions, { mode, sets, refusals, terms, isUntimed: true }),
        fn,
        options,
        parts,
      )
    const [code, terms] = [onDemand.operations.loaded, isTimed && calendarCode.loaded ? onDemand.terms.loaded : undefined]
    if (code && (terms || !isTimed)) return wrapped(code, terms)
    const make = async () => {
      if (isTimed) await loadCalendars()
      return wrapped(await onDemand.operations.get(), isTimed ? await onDemand.terms.get() : undefined)
    }
    return operationLater({ make, checkCallOptions })
  }

  async function close(): Promise<void> {
    warming.closing.abort(new StashClosedError())
    await stopSweeping()
    await running.settled(durationMs(config.closeWithin ?? defaults.closeWithin) as number, (call) => new StashClosedError(call))
    store.tryAgain()
    await gate.settle()
    await ledger.close()
    await journal?.close()
    stopListening()
    await store.close()
  }

  const stash: Stash = {
    fetch: (async (...[input, init]: Parameters<Fetch>) => {
      assertOpen()
      return http.fetch(input, init)
    }) as Fetch,
    operation,
    async explain(input, init) {
      assertOpen()
      return http.explain(input, init)
    },
    calling: (options) => {
      checkCallOptions(options)
      const wanted = { ...options }
      return {
        fetch: (async (...[input, init]: Parameters<Fetch>) => {
          assertOpen()
          return http.fetch(input, init, wanted)
        }) as Fetch,
      }
    },
    on(name, listener) {
      if (!eventNames.includes(name))
        throw new UsageError(
          `there is no event ${shown(name)}${withNearest(typeof name === 'string' ? name : '', eventNames)}; there are ${eventNames.join(', ')}`,
        )
      if (typeof listener !== 'function') throw new UsageError(`the listener for "${name}" is not a function`)
      return events.on(name, listener)
    },
    covers(method, url) {
      const { provider, endpoint } =
        typeof method === 'string' && URL.canParse(String(url)) ? rules.match(method.toUpperCase(), new URL(url)) : {}
      return provider && endpoint && `${provider.name}.${endpoint.name}`
    },
    outcomeOf: (thing) => http.outcomeOf(thing),
    ...entryMethods({
      store,
      clock,
      http,
      running,
      inFlight,
      putting,
      warming,
      journal: config.journal,
      troubles: new OncePerEpisode(warn),
      assertOpen,
    }),
    async status(options) {
      assertOpen()
      const { endpoints = false } = options ?? {}
      await gate.settle()
      const { readStatus } = await onDemand.status.get()
      return readStatus(store, clock.now(), { byStore: time.now(), trouble: store.trouble, endpoints, clock: turnsBy(clock) })
    },
    async forgive(provider) {
      assertOpen()
      if (typeof provider !== 'string') throw new UsageError(`the provider to forgive is ${shown(provider)}: give its name`)
      if (!Object.hasOwn(providers, provider))
        throw new UsageError(`no provider "${provider}" is configured${withNearest(provider, Object.keys(providers))}`)
      await gate.forgive(provider)
    },
    async report(options?: ReportOptions) {
      assertOpen()
      await ledger.write()
      await journal?.write()
      const { readReport } = await onDemand.reports.get()
      return readReport(store, clock.now(), options ?? undefined, {
        unwritten: ledger.unwritten(),
        journal: config.journal,
        inUse: Object.keys(providers),
        clock: turnsBy(clock),
      })
    },
    close() {
      closing ??= close()
      return closing
    },
    [Symbol.asyncDispose ?? Symbol.for('Symbol.asyncDispose')]: () => stash.close(),
  } as Stash
  return stash
}

/** Whether code is read from a disk, on Node and its like: then what is likely to be used is loaded at once, so that nothing has to wait for it later. */
const isOnDisk = (globalThis as { process?: { versions?: { node?: string } } }).process?.versions?.node !== undefined

/** What a configuration needs besides what every one needs. */
async function codeFor({ providers = {}, sets = {}, store, journal }: StashConfig) {
  const isTimed = haveTerms(providers, sets)
  const isAlone = store === undefined || store.records instanceof MemoryRecords
  const [protocols, terms, earlier, written] = await Promise.all([
    Object.values(providers).some(speaks) ? onDemand.protocols.get() : undefined,
    isTimed ? onDemand.terms.get() : undefined,
    isTimed ? onDemand.earlier.get() : undefined,
    journal && onDemand.journal.get(),
    isTimed || !isAlone ? loadCalendars() : undefined, // who shares a store may have limits that this stash has not
    isOnDisk ? onDemand.operations.get() : undefined,
  ])
  return { terms: terms && earlier && { ...terms, ...earlier }, readers: protocols?.readers, JournalWriter: written?.JournalWriter }
}

/** What a store gives that is no entry may have anything in any place. */
function textOr(value: unknown, other: string): string {
  return typeof value === 'string' ? value : other
}

async function rememberFacts(store: Store, { providers = {}, sets = {}, exchange }: StashConfig, now: number): Promise<void> {
  if (exchange) await store.ledger.addFacts({ provider: everyProvider, endpoint: null, since: now, rates: exchange })
  for (const [name, options] of Object.entries(providers)) {
    await store.ledger.addFacts(factsOf(name, options, now))
    for (const rule of endpointRules(options, sets))
      await store.ledger.addFacts(factsOf(name, options, now, { name: rule.name, reuse: rule.rule }))
  }
}
