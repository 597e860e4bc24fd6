import { checkWhen } from './config/check.js'
import type { Imported } from './core/entries/har.js'
import { compileSelector, type EntrySelector } from './core/entries/selector.js'
import { assertOptions } from './core/errors/assert-options.js'
import { UsageError } from './core/errors/setup-errors.js'
import { shown } from './core/errors/shown.js'
import type { OnDemand } from './core/on-demand.js'
import type { OncePerEpisode } from './core/once-per-episode.js'
import type { Clock } from './core/ports/clock.js'
import type { Journal } from './core/ports/journal.js'
import type { Store } from './core/ports/store.js'
import type { Moment } from './core/time/moment.js'
import type { CallsInFlight } from './engine/answer/calls-in-flight.js'
import type { PutAnswer, PutParts } from './engine/answer/put-answer.js'
import type { RunningCalls } from './engine/answer/running-calls.js'
import type { Warming } from './engine/answer/warming.js'
import type { FetchHandler } from './engine/http/fetch-handler.js'
import { keepWarm, warmingCode } from './engine/http/keep-warm.js'
import { turnsBy } from './engine/system-clock.js'
import { onDemand } from './loaded-later.js'
import type { EntryChange } from './queries/entries.js'
import type { ChangeOptions, ImportOptions, Stash } from './stash.js'

interface Parts {
  readonly store: Store
  readonly clock: Clock
  readonly http: FetchHandler
  readonly running: RunningCalls
  readonly inFlight: CallsInFlight
  readonly putting: PutParts
  readonly warming: Warming
  readonly journal: Journal | undefined
  readonly troubles: OncePerEpisode
  /** Throws once the stash is closed. */
  readonly assertOpen: () => void
}

/** What a stash does with what is stored. Most of it is loaded when it is first asked for. */
export function entryMethods({
  store,
  clock,
  http,
  running,
  inFlight,
  putting,
  warming,
  journal,
  troubles,
  assertOpen,
}: Parts): Pick<
  Stash,
  'has' | 'put' | 'entries' | 'invalidate' | 'purge' | 'sweep' | 'export' | 'import' | 'warm' | 'keepWarm' | 'mostUsed'
> {
  async function change(how: EntryChange, selector: EntrySelector, { dryRun = false, everything = false }: ChangeOptions = {}) {
    assertOpen()
    const { isAll, mayMean } = compileSelector(selector)
    if (isAll && !everything && !dryRun)
      throw new UsageError(`${how} without a selector means every stored answer: say which, or give { everything: true }`)
    if (!dryRun) inFlight.supersedeWhere(mayMean)
    const { changeEntries } = await onDemand.entries.get()
    return { entries: await changeEntries(how, selector, { store, clock: turnsBy(clock), now: clock.now(), dryRun }) }
  }

  async function putAt(request: Parameters<Stash['put']>[0], answer: Response, at: Moment | undefined): Promise<PutAnswer> {
    if (typeof answer?.arrayBuffer !== 'function') throw new UsageError(`the answer to put is ${shown(answer)}: give a Response`)
    if (answer.bodyUsed || answer.body?.locked)
      throw new UsageError('the body of the answer to put is being read already: give answer.clone()')
    if (at === undefined) return http.put(request, answer)
    const now = clock.now()
    const { momentForms, momentMs } = await onDemand.moments.get()
    const ms = momentMs(at, now, 'UTC')
    if (ms === undefined || ms > now) throw new UsageError(`"at" of put is ${shown(at)}: give a moment that is over, in ${momentForms}`)
    return http.put(request, answer, ms)
  }

  async function imported(har: unknown, options: ImportOptions): Promise<Imported> {
    assertOptions('import', options, ['onProgress'], ['onProgress'])
    const [{ parsedHar }, { importHar }] = await Promise.all([onDemand.archives.get(), onDemand.imports.get()])
    return importHar(parsedHar(har), {
      onProgress: options.onProgress,
      clock: turnsBy(clock),
      closing: warming.closing,
      async putEntry(entry) {
        const there = await store.entries.get(entry.key)
        if (there && there.storedAt > entry.storedAt) return { notKept: 'out-of-date' }
        return putting.entryWriter.put(entry)
      },
      async putAnswer(request, answer, at) {
        try {
          return (await http.put(request, answer, Math.min(at, clock.now()))).notStored
        } catch (error) {
          if (error instanceof UsageError) return 'no-endpoint'
          throw error
        }
      },
    })
  }

  return {
    async has(input, init) {
      assertOpen()
      return (await http.explain(input, init)).would === 'serve'
    },
    async put(request, answer, { at } = {}) {
      assertOpen()
      return running.track(putAt(request, answer, at))
    },
    entries(selector = {}) {
      assertOpen()
      const now = clock.now()
      compileSelector(selector)
      return asked(onDemand.entries, ({ readEntries }) => readEntries(store, selector, now))
    },
    invalidate: (selector, options) => change('invalidate', selector, options),
    purge: (selector, options) => change('purge', selector, options),
    async sweep() {
      assertOpen()
      const { sweepEntries } = await onDemand.entries.get()
      return { entries: await sweepEntries(store, clock, clock.now()) }
    },
    async warm(requests, options = {}) {
      assertOpen()
      return running.track(warmingCode.get().then((its) => its.warmRequests({ http, warming }, requests, options)))
    },
    keepWarm(when, requests, options = {}) {
      assertOpen()
      checkWhen(when)
      return keepWarm({ http, warming, troubles }, when, requests, options)
    },
    async mostUsed(options) {
      assertOpen()
      const { mostUsed } = await onDemand.mostUsed.get()
      return mostUsed(journal, clock.now(), options ?? {})
    },
    export(selector = {}) {
      assertOpen()
      const now = clock.now()
      compileSelector(selector)
      return asked(onDemand.exports, ({ exportHar }) => exportHar(store, selector, now))
    },
    async import(har, options = {}) {
      assertOpen()
      return running.track(imported(har, options))
    },
  }
}

/** What code gives that is loaded when the first of it is asked for. */
async function* asked<M, T>(code: OnDemand<M>, give: (its: M) => AsyncIterable<T>): AsyncGenerator<T> {
  yield* give(await code.get())
}
