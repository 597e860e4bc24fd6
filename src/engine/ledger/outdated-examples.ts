import type { EndpointReport, OutdatedExample } from '../../core/ledger/report-model.js'
import type { SharedRecords } from '../../core/ports/shared-records.js'

/** The names under which examples are kept begin so. */
const prefix = 'outdated '

/** How long an example is kept, milliseconds. */
const keepForMs = 400 * 86_400_000

/** Keeps, for each endpoint, the latest example that a process came upon first. */
export class OutdatedExamples {
  readonly #records: SharedRecords
  readonly #told = new Set<string>()

  constructor(records: SharedRecords) {
    this.#records = records
  }

  /** Keeps an example, unless this process has kept one of the endpoint. Never throws: an example may be lost. */
  async keep({ provider, endpoint }: { provider: string; endpoint: string }, example: OutdatedExample, now: number): Promise<void> {
    const name = prefix + JSON.stringify([provider, endpoint])
    if (this.#told.has(name)) return
    this.#told.add(name)
    try {
      await this.#records.update(name, now, () => ({ value: JSON.stringify(example), keepUntil: now + keepForMs }))
    } catch {
      this.#told.delete(name)
    }
  }
}

/** Reads the examples of a store: what finds that of an endpoint. */
export async function readOutdatedExamples(records: SharedRecords, now: number) {
  const all = await records.records(prefix, now)
  return (provider: string, endpoint: string): Pick<EndpointReport, 'outdatedExample'> => {
    try {
      const { first, second } = JSON.parse(all.get(prefix + JSON.stringify([provider, endpoint])) ?? '') as OutdatedExample
      const side = ({ request, at }: OutdatedExample['first']) => ({ request: String(request), at: new Date(new Date(at).toISOString()) })
      return { outdatedExample: { first: side(first), second: side(second) } }
    } catch {
      return {} // there is none, or none that can be read
    }
  }
}
