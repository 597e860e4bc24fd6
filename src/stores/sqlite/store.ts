import type { Opening, Store } from '../../core/ports/store.js'
import { SqliteEntries } from './entries.js'
import { SqliteLedger } from './ledger.js'
import { SqliteRecords } from './records.js'
import { SqliteFile } from './sqlite-file.js'

export interface SqliteStoreOptions {
  /** Only reads: the file must be a store already, and nothing in it is changed. Default false. */
  readonly readOnly?: boolean
}

/** A store in one SQLite file, which several processes of one machine may use at once. Created when it does not exist. */
export function sqliteStore(path: string, { readOnly = false }: SqliteStoreOptions = {}): Store {
  const file = new SqliteFile(path, readOnly)
  const ledger = new SqliteLedger(file)
  return {
    ...{ entries: new SqliteEntries(file), records: new SqliteRecords(file), ledger },
    open: (opening: Opening) => file.open(opening, () => ledger.addFactsAgain()),
    close: () => file.close(),
  }
}
