import { driverOf, type RawDatabase, type SqliteDriver, troubleOfCode } from './driver.js'

type NodeStatement = ReturnType<RawDatabase['prepare']> & { setReturnArrays?(on: boolean): void }

/** What is used of the runtime's own `node:sqlite`. */
export interface NodeSqlite {
  DatabaseSync: new (file: string) => RawDatabase<NodeStatement>
}

/** SQLite through the runtime's own module. */
export function openNodeDriver({ DatabaseSync }: NodeSqlite, file: string): SqliteDriver {
  return driverOf(new DatabaseSync(file), (error) => troubleOfCode((error as { errcode?: unknown } | undefined)?.errcode), asLists)
}

/** Node >= 22.16 and 24 can. */
function asLists(statement: NodeStatement): boolean {
  statement.setReturnArrays?.(true)
  return statement.setReturnArrays !== undefined
}
