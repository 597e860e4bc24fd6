import { driverOf, type RawDatabase, type SqliteDriver, type SqliteTrouble, troubleOfCode } from './driver.js'

/** What is used of the package `libsql`. */
export type Libsql = new (file: string) => RawDatabase

/**
 * SQLite through the package `libsql`, for runtimes without a module of their own. It takes bytes that are the only parameter
 * for something else and ends the process: no statement of ours has bytes alone.
 */
export function openLibsqlDriver(Database: Libsql, file: string): SqliteDriver {
  return driverOf(new Database(file), troubleOf)
}

function troubleOf(error: unknown): SqliteTrouble {
  const { rawCode, message } = (error ?? {}) as { rawCode?: unknown; message?: unknown }
  const inMessage = /^ConnectionFailed.*: (\d+)"\)$/.exec(String(message))
  return troubleOfCode(rawCode ?? (inMessage ? Number(inMessage[1]) : undefined))
}
