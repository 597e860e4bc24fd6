import { timesOf } from '../../core/decide/entry-times.js'
import type { Keeping, NotKept } from '../../core/decide/keep.js'
import type { Endpoint } from '../../core/endpoints/endpoint.js'
import type { SearchVariance } from '../../core/http/no-vary-search.js'
import { type Signpost, signpostHead } from '../../core/http/variants.js'
import { OncePerEpisode } from '../../core/once-per-episode.js'
import type { Clock } from '../../core/ports/clock.js'
import type { Entry } from '../../core/ports/entry-store.js'
import type { Store } from '../../core/ports/store.js'
import type { Ask, Finished, Kept } from '../call/call.js'
import { Measurement } from './measurement.js'
import type { Ended } from './upstream-attempt.js'

/** Variants of one answer kept at the most (RFC 9111 section 4.1 lets them grow without end). */
const mostVariants = 100

/** How many entries may be added before those of an endpoint are counted. */
const trimEvery = 100

/** Keeps whole answers, where that is allowed. */
export class EntryWriter {
  readonly #store: Store
  readonly #clock: Clock
  readonly #measurement = new Measurement()
  readonly #freshness: OncePerEpisode
  /** Entries added since those of the endpoint were last counted. */
  readonly #added = new Map<Endpoint, number>()

  constructor(store: Store, clock: Clock, warn: (message: string) => void) {
    this.#store = store
    this.#clock = clock
    this.#freshness = new OncePerEpisode(warn)
  }

  /** While only measuring: what keeping the answer would have spared. */
  measured(ask: Ask<unknown>, key: string, askedAt: number, kept: Kept): void {
    const { mode, freshForMs } = ask.endpoint
    if (mode !== 'measure' || freshForMs === undefined || ask.bypass || ask.excerpt) return
    const keeping = this.#judge(ask.endpoint, key, kept)
    const would = typeof keeping === 'string' ? undefined : { freshUntil: keeping.freshUntil, body: kept.form(keeping).body }
    this.#measurement.answered(key, askedAt, would, ask.line.at(this.#clock.now()))
  }

  /** Stores a whole answer, if that is allowed. */
  async keep(
    ask: Ask<unknown>,
    finished: Finished,
    { base, key, signposts }: Place,
    previous: Entry | undefined,
    call: { readonly outOfDate: boolean },
  ): Promise<Ended> {
    if ('broken' in finished) return finished
    if ('amiss' in finished) return { amiss: true }
    if ('notKept' in finished) return { notStored: finished.notKept }
    const { endpoint } = ask
    const keeping = this.#judge(endpoint, key, finished.kept)
    if (typeof keeping === 'string') return { notStored: keeping }
    const { head, body, memo } = finished.kept.form(keeping)
    if (previous?.key === key) ask.line.at(this.#clock.now())[sameBytes(previous.body, body) ? 'unchanged' : 'changed']++
    if (call.outOfDate) return { notStored: 'out-of-date' }
    const common = { provider: endpoint.provider, endpoint: endpoint.name, ...timesOf(keeping) }
    for (const signpost of signposts) {
      const at = 'vary' in signpost ? base : (ask.search?.signpostKey as string)
      await this.#store.entries.put({ ...common, key: at, head: signpostHead(signpost), body: new Uint8Array() })
    }
    const { units } = finished.kept
    await this.#store.entries.put({ ...common, key, head, body, memo, ...(units && { units }) })
    if (previous?.key !== key) await this.#bound(endpoint, base, key)
    return { stored: keeping }
  }

  /** Keeps the entries of an endpoint, and the variants of one of its answers, from growing without end. */
  async #bound(endpoint: Endpoint, base: string, key: string): Promise<void> {
    if (key !== base) await this.#store.entries.remove({ under: base }, mostVariants + 1)
    const { provider, name, maxEntries } = endpoint
    const added = (this.#added.get(endpoint) ?? 0) + 1
    const isTime = added >= Math.max(1, Math.min(trimEvery, Math.floor(maxEntries / 10)))
    this.#added.set(endpoint, isTime ? 0 : added)
    if (isTime) await this.#store.entries.remove({ provider, endpoint: name }, maxEntries)
  }

  /** Whether and how an answer is kept; where a function of the configuration fails it is not, and that is said once. */
  #judge({ provider, name }: Endpoint, key: string, kept: Kept): Keeping | NotKept {
    try {
      const keeping = kept.judge(key)
      this.#freshness.fine()
      return keeping
    } catch (cause) {
      this.#freshness.trouble(`answers of ${provider}.${name} are not stored, for nothing says how long they are fresh`, cause)
      return 'no-freshness'
    }
  }
}

/** Where an answer belongs, and which signposts lead there from the asked key. */
export interface Place {
  readonly base: string
  readonly key: string
  readonly signposts: readonly Signpost[]
}

export function placeOf(
  ask: Ask<unknown>,
  { vary = [], search }: { vary?: readonly string[] | '*'; search?: SearchVariance | undefined },
): Place {
  const base = search && ask.search ? ask.search.key(search) : ask.key
  const varies = vary !== '*' && vary.length > 0
  return {
    base,
    key: varies ? ask.variantKey(base, vary) : base,
    signposts: [...(search && ask.search ? [{ search }] : []), ...(varies ? [{ vary }] : [])],
  }
}

function sameBytes(one: Uint8Array, other: Uint8Array): boolean {
  return one.byteLength === other.byteLength && one.every((byte, i) => byte === other[i])
}
