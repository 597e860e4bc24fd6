import { timesOf } from '../../core/decide/entry-times.js'
import type { EventPlace, EvictedBy } from '../../core/decide/events.js'
import type { Keeping, NotKept } from '../../core/decide/keep.js'
import type { Endpoint } from '../../core/endpoints/endpoint.js'
import { signpostHead } from '../../core/http/variants.js'
import { inPieces } from '../../core/in-pieces.js'
import type { OutdatedExample } from '../../core/ledger/report-model.js'
import { type Ending, isBilled } from '../../core/money/billed-calls.js'
import { OncePerEpisode } from '../../core/once-per-episode.js'
import type { Claim } from '../../core/ports/claims.js'
import type { Clock } from '../../core/ports/clock.js'
import type { Entry, EntryStore, Evicted, PutResult } from '../../core/ports/entry-store.js'
import type { Maybe } from '../../core/ports/maybe.js'
import type { Selection } from '../../core/ports/selection.js'
import type { Call } from '../call/call.js'
import type { Finished, Kept } from '../call/fetched.js'
import type { Events } from '../events.js'
import type { Ended } from './landed.js'
import { type MeasuredCall, Measurement } from './measurement.js'
import type { Place } from './place.js'
import { SplitNotices } from './split-notices.js'

/** Variants of one answer kept at the most (RFC 9111 section 4.1 lets them grow without end). */
const mostVariants = 100

/** How many entries may be added before those of an endpoint are counted. */
const trimEvery = 100

/** Why answers are not stored that say so by how their calls are counted. */
const countedElsewhere: readonly NotKept[] = ['failed', 'abandoned', 'not-reusable']

export interface EntryWriterParts {
  readonly entries: EntryStore
  readonly clock: Clock
  readonly events: Events
  readonly warn: (message: string) => void
  /** Counts answers that were dropped while they were fresh. */
  readonly countEvicted: (evicted: Evicted, by: EvictedBy) => void
  /** Keeps an example of an outdated answer that reuse would have given. */
  readonly outdated: (place: EventPlace, example: OutdatedExample) => void
}

/** The call whose answer is stored: the entry that it takes the place of, whether something newer is known, and how it ended. */
interface Writing {
  readonly previous: Entry | undefined
  readonly isSuperseded: () => boolean
  readonly claim?: Claim | undefined
  readonly ending: Ending
}

/** A call that was measured: when it was asked for, and how it ended. */
interface Measured {
  readonly askedAt: number
  readonly ending: Ending
}

/** Stores complete answers, where that is allowed. */
export class EntryWriter {
  readonly #entries: EntryStore
  readonly #clock: Clock
  readonly #events: Events
  readonly #countEvicted: EntryWriterParts['countEvicted']
  readonly #outdated: EntryWriterParts['outdated']
  readonly #measurement: Measurement
  readonly #freshness: OncePerEpisode
  readonly #labels: OncePerEpisode
  readonly #splits: SplitNotices
  /** Entries added since those of the endpoint were last counted. */
  readonly #added = new Map<Endpoint, number>()

  constructor({ entries, clock, events, warn, countEvicted, outdated }: EntryWriterParts) {
    this.#entries = entries
    this.#clock = clock
    this.#events = events
    this.#countEvicted = countEvicted
    this.#outdated = outdated
    this.#measurement = new Measurement(entries, clock)
    this.#freshness = new OncePerEpisode(warn)
    this.#labels = new OncePerEpisode(warn)
    this.#splits = new SplitNotices(warn)
  }

  /** While only measuring: what reuse would have done. `kept`: the complete answer, where there is one. */
  measured(call: Call<unknown>, key: string | undefined, { askedAt, ending }: Measured, kept: Kept | undefined): Maybe<void> {
    const { mode, freshForMs, unbilled, retries } = call.endpoint
    if (mode !== 'measure' || freshForMs === undefined || key === undefined || call.bypass || call.excerpt) return
    const keeping = kept ? this.#judge(call.endpoint, key, kept) : 'failed'
    const form = typeof keeping === 'string' || !kept ? undefined : this.#form(call.endpoint, kept, keeping)
    const would =
      typeof keeping === 'string' || !kept || !form
        ? undefined
        : { ...timesOf(keeping), body: form.body, labels: form.labels, units: kept.units, slides: ending === 'answered' }
    const { provider, name } = call.endpoint
    if (form) this.#splits.stored({ provider, endpoint: name, key, body: form.body })
    const { method, url } = call.sent
    const request = url === undefined ? key : `${method} ${url}`
    const isAnswered = ending !== 'refused' && ending !== 'serverError' && ending !== 'noAnswer'
    const endedAt = this.#clock.now()
    const countedAt = call.endpoint.countedAt === 'left' ? askedAt : endedAt
    const mayRepeat = !isAnswered && call.isRepeatable && retries.upTo > 0
    const came = { mayRepeat, request, askedAt, countedAt, endedAt, isAnswered, isBilled: isBilled(unbilled, ending) }
    const earlier = this.#measurement.ended(call, key, came, would)
    return earlier instanceof Promise ? earlier.then((one) => this.#tellOutdated(call, one, came)) : this.#tellOutdated(call, earlier, came)
  }

  #tellOutdated(call: Call<unknown>, earlier: MeasuredCall | undefined, { request, askedAt }: MeasuredCall): void {
    if (!earlier) return
    const side = (one: MeasuredCall) => ({ request: one.request, at: new Date(one.askedAt) })
    const { provider, name: endpoint } = call.endpoint
    this.#outdated({ provider, endpoint }, { first: side(earlier), second: side({ request, askedAt }) })
  }

  /** While only measuring: a write was answered that reuse would have taken for a change of what a selection means. */
  measuredWrite(selection: Selection): Maybe<void> {
    return this.#measurement.invalidate(selection, this.#clock.now())
  }

  /** Stores a complete answer, if that is allowed, and counts where it is not. */
  async write(...args: Parameters<EntryWriter['store']>): Promise<Ended> {
    const ended = await this.store(...args)
    if ('notStored' in ended && !countedElsewhere.includes(ended.notStored)) this.#tellNotStored(args[0], ended.notStored)
    return ended
  }

  /** Puts an entry into the store, and counts what had to go for it. */
  async put(entry: Entry, claim?: Claim): Promise<PutResult | undefined> {
    const done = await this.#entries.put(entry, this.#clock.now(), claim)
    for (const evicted of done?.evicted ?? []) this.#countEvicted(evicted, 'store')
    return done
  }

  /** Counts whether an answer had changed when it was fetched again, and at what age. */
  #compared(call: Call<unknown>, previous: Entry, body: Uint8Array): void {
    const now = this.#clock.now()
    const tally = call.counter.at(now)
    const isChanged = !sameBytes(previous.body, body)
    tally[isChanged ? 'changed' : 'unchanged']++
    tally.compared(now - previous.bornAt, isChanged)
  }

  async store(
    call: Call<unknown>,
    finished: Finished,
    { base, key, signposts }: Place,
    { previous, isSuperseded, claim, ending }: Writing,
  ): Promise<Ended> {
    if ('broken' in finished || 'abandoned' in finished) return finished
    if ('amiss' in finished) return { amiss: true }
    if ('notKept' in finished) return { notStored: finished.notKept }
    const { endpoint } = call
    const keeping = this.#judge(endpoint, key, finished.kept)
    if (typeof keeping === 'string') return { notStored: keeping }
    const form = this.#form(endpoint, finished.kept, keeping)
    if (!form) return { notStored: 'trouble' }
    const { head, body, labels, memo } = form
    if (previous?.key === key) this.#compared(call, previous, body)
    if (isSuperseded()) return { notStored: 'out-of-date' }
    for (const signpost of signposts) {
      const at = 'vary' in signpost ? base : (call.search?.signpostKey as string)
      const unused = { ...timesOf(keeping), freshUntil: keeping.storedAt } // it is no answer, and none is lost with it
      const { provider, name } = endpoint
      await this.put({ provider, endpoint: name, ...unused, key: at, head: signpostHead(signpost), body: new Uint8Array() })
    }
    const { units } = finished.kept
    if (isSuperseded()) return { notStored: 'out-of-date' } // by now, where the store took its time
    const entry: Entry = {
      key,
      provider: endpoint.provider,
      endpoint: endpoint.name,
      storedAt: keeping.storedAt,
      bornAt: keeping.bornAt,
      freshUntil: keeping.freshUntil,
      refreshableUntil: keeping.refreshableUntil,
      usableUntil: keeping.usableUntil,
      keepUntil: keeping.keepUntil,
      mustRevalidate: keeping.mustRevalidate,
      invalidated: keeping.invalidated,
      head,
      body,
      memo,
      units,
      price: endpoint.price,
      labels: labels?.length === 0 ? undefined : labels,
    }
    const done = await this.put(entry, claim)
    if (done?.notKept) return { notStored: done.notKept }
    this.#splits.stored(entry)
    if (done?.wasEvicted && isPaidAgain(call, previous, ending)) call.counter.at(this.#clock.now()).refetch(units)
    if (previous?.key !== key) await this.#bound(endpoint, base, key)
    return { stored: keeping }
  }

  /** Keeps the entries of an endpoint, and the variants of one of its answers, from growing without end. */
  async #bound(endpoint: Endpoint, base: string, key: string): Promise<void> {
    if (key !== base) await this.#trim({ under: base }, mostVariants + 1) // and the signpost
    const { provider, name, maxEntries } = endpoint
    if (maxEntries === undefined) return
    const added = (this.#added.get(endpoint) ?? 0) + 1
    const isTime = added >= Math.max(1, Math.min(trimEvery, Math.floor(maxEntries / 10)))
    this.#added.set(endpoint, isTime ? 0 : added)
    if (isTime) await this.#trim({ provider, endpoint: name }, maxEntries)
  }

  async #trim(selection: Selection, most: number): Promise<void> {
    const piece = async () => {
      const trimmed = await this.#entries.trim(selection, most, this.#clock.now())
      for (const evicted of trimmed.evicted) this.#countEvicted(evicted, 'endpoint')
      return trimmed
    }
    await inPieces(this.#clock, piece, ({ more }) => more)
  }

  /** What is stored; undefined where a function of the configuration fails, which is reported once: without its labels nothing would find it. */
  #form(endpoint: Endpoint, kept: Kept, keeping: Keeping): ReturnType<Kept['form']> | undefined {
    try {
      const form = kept.form(keeping)
      this.#labels.fine(endpoint)
      return form
    } catch (cause) {
      this.#labels.trouble(`answers of ${nameOf(endpoint)} are not stored, for their labels fail`, cause, endpoint)
      return undefined
    }
  }

  #tellNotStored({ endpoint, counter }: Call<unknown>, why: NotKept): void {
    counter.at(this.#clock.now()).countNotStored(why)
    this.#events.tell('not-stored', { provider: endpoint.provider, endpoint: endpoint.name, why })
  }

  /** Whether and how an answer is kept; where a function of the configuration fails it is not, and that is reported once. */
  #judge(endpoint: Endpoint, key: string, kept: Kept): Keeping | NotKept {
    try {
      const keeping = kept.judge(key)
      this.#freshness.fine(endpoint)
      return keeping
    } catch (cause) {
      this.#freshness.trouble(`answers of ${nameOf(endpoint)} are not stored, for nothing says how long they are fresh`, cause, endpoint)
      return 'no-freshness'
    }
  }
}

function nameOf({ provider, name }: Endpoint): string {
  return `${provider}.${name}`
}

/** Whether a call was made, and is on the bill, only because an answer had been dropped. */
function isPaidAgain({ terms, directives, endpoint }: Call<unknown>, previous: Entry | undefined, ending: Ending): boolean {
  return previous === undefined && !terms.reload && directives.ask === undefined && isBilled(endpoint.unbilled, ending)
}

function sameBytes(one: Uint8Array, other: Uint8Array): boolean {
  return one.byteLength === other.byteLength && one.every((byte, i) => byte === other[i])
}
