import { type Signpost, signpostOf } from '../../core/http/variants.js'
import { OncePerEpisode } from '../../core/once-per-episode.js'
import type { Entry, EntryStore } from '../../core/ports/entry-store.js'
import type { Maybe } from '../../core/ports/maybe.js'
import type { Call } from '../call/call.js'
import type { CallRecorder } from '../call/call-record.js'
import type { Place } from '../upstream/place.js'
import { RememberedSignposts } from './remembered-signposts.js'

/** What a look-up came to: the key that the request chooses, and what is stored under it. */
export interface Found {
  readonly key: string
  readonly entry: Entry | undefined
  readonly varied: boolean
}

/** Called where a store takes its time, once it was asked, with the keys under which the answer may be, the likeliest last. */
export type Waits = (keys: readonly string[]) => void

/** Finds entries: by key, where the signposts of a key lead by the parameters that matter, and by the fields that answers vary by. */
export class LookUp {
  readonly #entries: EntryStore
  readonly #recorder: CallRecorder
  readonly #trouble: OncePerEpisode
  readonly #signposts = new RememberedSignposts()
  /** Whether the store takes its time, so that anything is to be remembered. */
  #remembers = false

  constructor(entries: EntryStore, recorder: CallRecorder, warn: (message: string) => void) {
    this.#entries = entries
    this.#recorder = recorder
    this.#trouble = new OncePerEpisode(warn)
  }

  /**
   * The entry that a call chooses. `first`: what is stored under its key, where that is known. Never rejects: what fails finds nothing.
   */
  async find(call: Call<unknown>, first?: Maybe<Entry | undefined>, waits?: Waits): Promise<Found> {
    const { key } = call
    if (key === undefined) return { key: '', entry: undefined, varied: false }
    try {
      const found = await this.#find(call, key, first, waits)
      this.#trouble.fine(call.endpoint)
      return found
    } catch (error) {
      const { provider, name } = call.endpoint
      this.#trouble.trouble(`stored answers of ${provider}.${name} cannot be found`, error, call.endpoint)
      return { key, entry: undefined, varied: false }
    }
  }

  /** Notes where the answer of an upstream call belongs. */
  landed(call: Call<unknown>, { base, signposts }: Place): void {
    if (!this.#remembers || call.key === undefined) return
    const vary = signposts.find((signpost) => 'vary' in signpost)
    for (const signpost of signposts) if ('search' in signpost) this.#saw(call, base, signpost)
    this.#saw(call, base, vary)
  }

  async #find(call: Call<unknown>, asked: string, given: Maybe<Entry | undefined>, waits: Waits | undefined): Promise<Found> {
    const got = given ?? this.#entries.get(asked)
    const ahead = got instanceof Promise ? this.#askAhead(call, asked, waits) : undefined
    const get = (key: string) => (ahead?.has(key) ? ahead.get(key) : this.#entries.get(key))
    let key = asked
    let chosen = await got
    if (!chosen && call.search) {
      const signpost = signpostIn(await get(call.search.signpostKey))
      if (signpost && 'search' in signpost) {
        this.#saw(call, key, signpost)
        key = call.search.key(signpost.search)
        chosen = await get(key)
      }
    }
    const signpost = signpostIn(chosen)
    if (chosen) this.#saw(call, key, signpost)
    if (!signpost || !('vary' in signpost)) return { key, entry: this.#readable(call, chosen), varied: false }
    const variant = call.variantKey(key, signpost.vary)
    return { key: variant, entry: this.#readable(call, await get(variant)), varied: true }
  }

  /** Asks a store that takes its time for all that the look-up is expected to need besides the first, so that it waits for one round trip. */
  #askAhead(call: Call<unknown>, key: string, waits: Waits | undefined): Map<string, Maybe<Entry | undefined>> {
    this.#remembers = true
    const expected = this.#signposts.expected(call, key)
    const asked = new Map<string, Maybe<Entry | undefined>>()
    for (const one of call.search ? [call.search.signpostKey, ...expected] : expected) {
      const got = this.#entries.get(one)
      if (got instanceof Promise) got.catch(noop)
      asked.set(one, got)
    }
    waits?.([key, ...expected])
    return asked
  }

  #saw(call: Call<unknown>, base: string, signpost: Signpost | undefined): void {
    if (!this.#remembers) return
    if (!signpost || 'vary' in signpost) this.#signposts.sawFields(call, base, signpost?.vary)
    else if (call.search) this.#signposts.sawSearch(call.search.signpostKey, signpost.search)
  }

  /** An entry that can be read, else none: what cannot be is dropped, and counts as absent. */
  #readable(call: Call<unknown>, entry: Entry | undefined): Entry | undefined {
    if (entry === undefined) return undefined
    try {
      call.form.restore(entry)
      return entry
    } catch (error) {
      this.#recorder.corrupt(call, entry.key, error)
      void this.#entries.remove({ key: entry.key })
      return undefined
    }
  }
}

function signpostIn(entry: Entry | undefined): Signpost | undefined {
  return entry && signpostOf(entry.head)
}

function noop(): void {}
