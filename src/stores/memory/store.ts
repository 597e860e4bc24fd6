import type { Store } from '../../core/ports/store.js'
import { MemoryEntries } from './entries.js'
import { MemoryLedger } from './ledger.js'
import { MemoryRecords } from './records.js'

export interface MemoryStoreOptions {
  /** Bytes of bodies, keys and header fields kept at the most. Default 64 MiB. An answer larger than this is not kept. */
  readonly maxBytes?: number
  /** Entries kept at the most. Default 10,000. */
  readonly maxEntries?: number
}

/** A store in this process's memory; what was used least recently goes first. Gone when the process ends. */
export function memoryStore({ maxBytes = 64 * 1024 * 1024, maxEntries = 10_000 }: MemoryStoreOptions = {}): Store {
  const entries = new MemoryEntries(maxBytes, maxEntries)
  return { entries, records: new MemoryRecords(), ledger: new MemoryLedger(), open() {}, close: () => entries.clear() }
}
