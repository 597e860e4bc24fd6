import type { SearchVariance } from '../../core/http/no-vary-search.js'
import type { Signpost } from '../../core/http/variants.js'
import type { Call } from '../call/call.js'

/** Where an answer belongs, and which signposts lead there from the asked key. */
export interface Place {
  readonly base: string
  readonly key: string
  readonly signposts: readonly Signpost[]
}

export function placeOf(
  call: Call<unknown>,
  { vary = [], search }: { vary?: readonly string[] | '*'; search?: SearchVariance | undefined } = {},
): Place {
  const { key = '' } = call
  const base = search && call.search ? call.search.key(search) : key
  const varies = vary !== '*' && vary.length > 0
  return {
    base,
    key: varies ? call.variantKey(base, vary) : base,
    signposts: [...(search && call.search ? [{ search }] : []), ...(varies ? [{ vary }] : [])],
  }
}
