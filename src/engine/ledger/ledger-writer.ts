import { bucketMs, type LedgerRow, plainRow, type TallyRow } from '../../core/ledger/ledger-row.js'
import { Tally } from '../../core/ledger/tally.js'
import { OnDemand } from '../../core/on-demand.js'
import type { Store } from '../../core/ports/store.js'
import type { Mode } from '../../core/rules/mode.js'
import { systemClock } from '../system-clock.js'
import { EndpointCounter } from './endpoint-counter.js'
import { mergedRows } from './merged-rows.js'

/** Rows that are added together, once. */
interface Batch {
  readonly number: number
  readonly rows: readonly TallyRow[]
  readonly plain: readonly LedgerRow[]
}

/** What puts rows into coarser buckets. */
export const coarserCode = new OnDemand(() => import('./coarser-rows.js'))

/** How long a count may wait in memory before it is written, milliseconds of real time: what an end without warning costs is less than a second. */
export const writeAfterMs = 800

/**
 * The ledger while it is being written: counts in memory, adds them to the store in batches, soon after the
 * first of them. A batch that could not be written, which the store tells of, is kept as it is and tried again: it may have been added all the same.
 */
export class LedgerWriter {
  readonly #store: Store
  readonly #counters = new Map<string, EndpointCounter>()
  #pending: TallyRow[] = []
  readonly #process: string
  /** What was given to the store, or is to be next, as long as it has not said that it was added; oldest first. */
  #waiting: Batch[] = []
  #batches = 0
  #cancelWrite: (() => void) | undefined
  #writing: Promise<void> = Promise.resolve()

  /** `process`: tells this writer from all others. */
  constructor(store: Store, process: string) {
    this.#store = store
    this.#process = process
  }

  /** The counter of one endpoint: ask for it once and keep it. */
  counter(provider: string, endpoint: string, mode: Mode): EndpointCounter {
    const name = JSON.stringify([provider, endpoint, mode === 'measure'])
    const known = this.#counters.get(name)
    if (known) return known
    const counter = new EndpointCounter((bucket) => {
      const tally = new Tally()
      this.#pending.push({
        ...{ bucket, grain: 'minute', lengthMs: bucketMs, provider, endpoint, tally },
        mode: mode === 'measure' ? 'measure' : 'reuse',
      })
      this.#cancelWrite ??= systemClock.later(writeAfterMs, () => void this.write())
      return tally
    })
    this.#counters.set(name, counter)
    return counter
  }

  /** Writes all that was counted so far. Never rejects: what cannot be written stays counted and is tried again. */
  async write(): Promise<void> {
    this.#writing = this.#writing.then(() => this.#writePending())
    await this.#writing
  }

  /** What the store did not take yet. */
  unwritten(): readonly TallyRow[] {
    return [...this.#waiting.flatMap(({ rows }) => rows), ...this.#pending]
  }

  /** Writes the last counts and stops the timer. */
  async close(): Promise<void> {
    await this.write()
    this.#cancelWrite?.()
  }

  /** Writes what was counted as far as that can be done while the process or the page ends: nothing is waited for. */
  leave(): void {
    this.#take()
    const { ledger } = this.#store
    for (const batch of [...this.#waiting]) {
      const its = { writer: this.#process, number: batch.number }
      if (ledger.addLast) ledger.addLast(batch.plain, its)
      else if (!(ledger.add(batch.plain, its) instanceof Promise)) this.#waiting.shift()
    }
  }

  async #writePending(): Promise<void> {
    this.#cancelWrite?.()
    this.#cancelWrite = undefined
    if (!(await this.#writeBatches())) return
    this.#take() // after what is waited for: nothing more is counted in what is taken here
    await this.#writeBatches()
  }

  /** Has what was counted be the last batch. */
  #take(): void {
    for (const counter of this.#counters.values()) counter.turn()
    const rows = this.#pending
    this.#pending = []
    if (rows.length > 0) this.#waiting.push({ number: ++this.#batches, rows, plain: rows.map(plainRow) })
  }

  /** Writes the batches that wait, if any do. Returns whether none waits any more. */
  async #writeBatches(): Promise<boolean> {
    try {
      for (let batch = this.#waiting[0]; batch; batch = this.#waiting[0]) {
        await this.#store.ledger.add(batch.plain, { writer: this.#process, number: batch.number })
        this.#waiting = this.#waiting.filter((one) => one !== batch)
      }
      return true
    } catch {
      await this.#bound()
      this.#cancelWrite ??= systemClock.later(writeAfterMs, () => void this.write())
      return false
    }
  }

  /** Puts what waits for a store together, in coarser buckets where it fails for so long that there are too many. No count is lost. */
  async #bound(): Promise<void> {
    const coarser = this.#pending.length > mostRows ? await coarserCode.get().catch(() => undefined) : undefined
    for (const counter of this.#counters.values()) counter.turn() // what was counted meanwhile is merged too
    this.#pending = mergedRows(this.#pending)
    if (coarser) this.#pending = coarser.coarserRows(this.#pending, mostRows)
  }
}

/** Rows that wait for a store, at the most. */
const mostRows = 5_000
