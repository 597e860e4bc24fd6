import { signpostOf } from '../../core/http/variants.js'
import { OncePerEpisode } from '../../core/once-per-episode.js'
import type { Entry, EntryStore } from '../../core/ports/entry-store.js'
import type { Maybe } from '../../core/ports/maybe.js'
import type { Call } from '../call/call.js'
import type { CallRecorder } from '../call/call-record.js'

/** What a look-up came to: the key that the request chooses, and what is stored under it. */
export interface Found {
  readonly key: string
  readonly entry: Entry | undefined
  readonly varied: boolean
  /** What is stored under the key of the call itself, where that was asked for. */
  readonly first?: Entry | undefined
}

/** Finds entries: by key, where the signposts of a key lead by the parameters that matter, and by the fields that answers vary by. */
export class LookUp {
  readonly #entries: EntryStore
  readonly #recorder: CallRecorder
  readonly #trouble: OncePerEpisode

  constructor(entries: EntryStore, recorder: CallRecorder, warn: (message: string) => void) {
    this.#entries = entries
    this.#recorder = recorder
    this.#trouble = new OncePerEpisode(warn)
  }

  /**
   * The entry that a call chooses. `first`: what is stored under its key, where that is known. `waits`: called where a store takes its time, once it was
   * asked. Never rejects: what fails finds nothing.
   */
  async find(call: Call<unknown>, first?: Maybe<Entry | undefined>, waits?: () => void): Promise<Found> {
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

  async #find(call: Call<unknown>, asked: string, given: Maybe<Entry | undefined>, waits: (() => void) | undefined): Promise<Found> {
    let key = asked
    const got = given ?? this.#entries.get(key)
    // of a store that takes its time both are asked for at once: a miss waits for one round trip then
    const search = call.search && got instanceof Promise ? this.#entries.get(call.search.signpostKey) : undefined
    if (search instanceof Promise) search.catch(noop)
    if (got instanceof Promise) waits?.()
    const first = await got
    let chosen = first
    if (!first && call.search) {
      const signpost = signpostIn(await (search ?? this.#entries.get(call.search.signpostKey)))
      if (signpost && 'search' in signpost) {
        key = call.search.key(signpost.search)
        chosen = await this.#entries.get(key)
      }
    }
    const signpost = signpostIn(chosen)
    if (!signpost || !('vary' in signpost)) return { key, entry: this.#readable(call, chosen), varied: false, first }
    const variant = call.variantKey(key, signpost.vary)
    return { key: variant, entry: this.#readable(call, await this.#entries.get(variant)), varied: true, first }
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

function signpostIn(entry: Entry | undefined): ReturnType<typeof signpostOf> {
  return entry && signpostOf(entry.head)
}

function noop(): void {}
