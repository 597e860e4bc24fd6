import { UsageError } from '../../core/errors/setup-errors.js'
import { shown } from '../../core/errors/shown.js'
import type { Opening, Store } from '../../core/ports/store.js'
import { type Duration, durationMs } from '../../core/time/duration.js'
import { memoryStore } from '../memory/store.js'
import { LayeredEntries } from './entries.js'

export interface LayeredStoreOptions {
  /** Which all share, and which has everything. */
  readonly far: Store
  /** The most that copies take in the memory of this process, bytes. Default 64 MiB. */
  readonly nearBytes?: number
  /**
   * How long a copy may be given before it is read again. So long, at the most, an answer is given that was changed elsewhere where the far store does not
   * tell of changes, or its message got lost. Default 10 s.
   */
  readonly nearFor?: Duration
}

const usualNearFor = '10 s'

/** A store with copies of its entries in the memory of this process, for a while each: a hit there costs no round trip. Everything else is the far store's. */
export function layeredStore({ far, nearBytes, nearFor = usualNearFor }: LayeredStoreOptions): Store {
  const nearForMs = durationMs(nearFor)
  if (typeof far?.open !== 'function') throw new UsageError(`"far" of layeredStore is ${shown(far)}: give a store, such as redisStore()`)
  if (nearForMs === undefined || nearForMs === 0)
    throw new UsageError(`"nearFor" of layeredStore is ${shown(nearFor)}: give a duration such as "10 s"`)
  const near = memoryStore(nearBytes === undefined ? {} : { maxBytes: nearBytes })
  const entries = new LayeredEntries(near, far, nearForMs)
  let endListening = async () => {}
  return {
    ...{ entries, records: far.records, ledger: far.ledger, memoryBytes: near.memoryBytes },
    async open(opening: Opening) {
      await far.open(opening)
      const end = await far.onChange?.((selection) => entries.changed(selection))
      endListening = async () => end?.()
    },
    ...(far.time && { time: () => (far as Required<Store>).time() }),
    inspect: () => far.inspect?.(),
    async close() {
      await endListening()
      entries.changed({ all: true })
      await far.close()
    },
  }
}
