import { type Counted, meanMicros, microsSaved } from './figures.js'
import type { TallyRow } from './ledger-row.js'
import type { Tally } from './tally.js'

/** How much longer callers would have waited, by the mean time of each endpoint's upstream calls in the whole of a report. */
export class TimeSaved {
  readonly #means = new Map<string, number>()

  constructor(
    sums: readonly { readonly provider: string; readonly endpoints: readonly { readonly endpoint: string; readonly counted: Counted }[] }[],
  ) {
    for (const { provider, endpoints } of sums) {
      for (const { endpoint, counted: its } of endpoints) {
        const mean = meanMicros(its)
        if (mean !== undefined) this.#means.set(JSON.stringify([provider, endpoint]), mean)
      }
    }
  }

  /** Of endpoints of a provider, milliseconds; null where it is not known of any. */
  of(provider: string, endpoints: readonly { readonly endpoint: string; readonly counted: Counted }[]): number | null {
    return this.sum(endpoints.map((one) => this.#ms(provider, one.endpoint, one.counted.reuse)))
  }

  ofRows(rows: readonly TallyRow[]): number | null {
    return this.sum(rows.map(({ provider, endpoint, mode, tally }) => (mode === 'reuse' ? this.#ms(provider, endpoint, tally) : null)))
  }

  sum(all: readonly (number | null)[]): number | null {
    const known = all.filter((ms) => ms !== null)
    return known.length === 0 ? null : Math.round(known.reduce((sum, ms) => sum + ms, 0))
  }

  #ms(provider: string, endpoint: string, tally: Tally): number | null {
    const mean = this.#means.get(JSON.stringify([provider, endpoint]))
    return mean === undefined ? null : microsSaved(tally, mean) / 1000
  }
}
