import { driverOf, type RawDatabase, type SqliteDriver, troubleOfCode } from './driver.js'

/** What is used of the runtime's own `node:sqlite`. */
export interface NodeSqlite {
  DatabaseSync: new (file: string) => RawDatabase
}

/** SQLite through the runtime's own module. */
export function openNodeDriver({ DatabaseSync }: NodeSqlite, file: string): SqliteDriver {
  return driverOf(new DatabaseSync(file), (error) => troubleOfCode((error as { errcode?: unknown } | undefined)?.errcode))
}
