import { UsageError } from '../../core/errors/setup-errors.js'
import { shown } from '../../core/errors/shown.js'
import type { Opening, Store } from '../../core/ports/store.js'
import { checkRoom } from '../room-options.js'
import { SqliteEntries } from './entries.js'
import { SqliteLedger } from './ledger.js'
import { SqliteRecords } from './records.js'
import { SqliteFile } from './sqlite-file.js'

export interface SqliteStoreOptions {
  /** Only reads: the file must be a store already, and nothing in it is changed. Default false. */
  readonly readOnly?: boolean
  /**
   * Bytes of answers kept at the most, with what they take in the file; a larger answer is not kept. The file is larger by the ledger. Default
   * 512 MiB.
   */
  readonly maxBytes?: number
}

/**
 * A store in one SQLite file, which several processes of one machine may use at once. Created when it does not exist. Where it needs room,
 * answers that have expired go first, then those used least recently; reports count what was fresh of them.
 */
export function sqliteStore(path: string, { readOnly = false, maxBytes }: SqliteStoreOptions = {}): Store {
  if (typeof path !== 'string' || path === '') throw new UsageError(`the path of sqliteStore is ${shown(path)}: name a file`)
  checkRoom({ maxBytes }, 'sqliteStore')
  const file = new SqliteFile(path, readOnly)
  const entries = new SqliteEntries(file, maxBytes ?? 512 * 1024 * 1024)
  const ledger = new SqliteLedger(file)
  return {
    ...{ entries, records: new SqliteRecords(file), ledger },
    open(opening: Opening) {
      file.open(opening, () => {
        entries.begunAnew()
        ledger.addFactsAgain()
      })
      entries.claims.opened()
    },
    inspect: () => file.inspect(),
    close() {
      entries.settle()
      entries.claims.closing()
      return file.close()
    },
  }
}
