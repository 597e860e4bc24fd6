import type { Store } from '../../core/ports/store.js'
import { checkRoom } from '../room-options.js'
import { MemoryEntries } from './entries.js'
import { MemoryLedger } from './ledger.js'
import { MemoryRecords } from './records.js'

export interface MemoryStoreOptions {
  /** Bytes of keys, header fields and bodies kept at the most, with what the store itself takes. Default 64 MiB. A larger answer is not kept. */
  readonly maxBytes?: number
  /** Entries kept at the most. Default: as many as there is room for. */
  readonly maxEntries?: number
}

/**
 * A store in this process's memory, gone when the process ends. Where it needs room, answers that have expired go first, then those used
 * least recently; reports count what was fresh of them.
 */
export function memoryStore({ maxBytes, maxEntries }: MemoryStoreOptions = {}): Store {
  checkRoom({ maxBytes, maxEntries }, 'memoryStore')
  const memoryBytes = maxBytes ?? 64 * 1024 * 1024
  const entries = new MemoryEntries(memoryBytes, maxEntries ?? Number.POSITIVE_INFINITY)
  return { entries, records: new MemoryRecords(), ledger: new MemoryLedger(), memoryBytes, open() {}, close: () => entries.clear() }
}
