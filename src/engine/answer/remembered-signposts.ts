import type { SearchVariance } from '../../core/http/no-vary-search.js'
import type { Call } from '../call/call.js'

/** Keys of which it is remembered where their signposts led, at the most. */
const most = 4_096

/**
 * Where the signposts of a store that takes its time led when they were read last, so that what they point to can be asked for together with them. It is
 * only asked for by this: what an answer varies by is what its signpost says.
 */
export class RememberedSignposts {
  readonly #searches = new Map<string, SearchVariance | undefined>()
  readonly #fields = new Map<string, readonly string[] | undefined>()
  /** Of keys that were not seen yet: what the last answer of their endpoint varied by. */
  readonly #usual = new WeakMap<Call<unknown>['endpoint'], readonly string[]>()

  /** The keys under which the answer of a call is expected besides its own: with the parameters that matter, and among its variants. */
  expected(call: Call<unknown>, key: string): readonly string[] {
    const search = call.search && this.#searches.get(call.search.signpostKey)
    const base = search && call.search ? call.search.key(search) : key
    const fields = this.#fields.has(base) ? this.#fields.get(base) : this.#usual.get(call.endpoint)
    const variant = fields ? call.variantKey(base, fields) : base
    return [...new Set([base, variant])].filter((one) => one !== key)
  }

  /** Notes by which fields the answers of a key vary; none where they do not. */
  sawFields(call: Call<unknown>, base: string, fields: readonly string[] | undefined): void {
    remember(this.#fields, base, fields)
    if (fields) this.#usual.set(call.endpoint, fields)
  }

  /** Notes which parameters of the search matter. */
  sawSearch(signpostKey: string, variance: SearchVariance): void {
    remember(this.#searches, signpostKey, variance)
  }
}

function remember<T>(map: Map<string, T>, key: string, value: T): void {
  map.delete(key)
  if (map.size >= most) for (const oldest of map.keys()) if (map.delete(oldest)) break
  map.set(key, value)
}
