import { setFlagsFromString } from 'node:v8'
import { runInNewContext } from 'node:vm'
import { driverOf, type RawDatabase, type SqliteDriver, type SqliteTrouble, troubleOfCode } from './driver.js'

/** What is used of the package `libsql`. */
export type Libsql = new (file: string) => RawDatabase<ReturnType<RawDatabase['prepare']> & { raw(on: boolean): unknown }>

/**
 * SQLite through the package `libsql`, for runtimes without a module of their own. It takes bytes that are the only parameter
 * for something else and ends the process: no statement of ours has bytes alone.
 */
export function openLibsqlDriver(Database: Libsql, file: string): SqliteDriver {
  const asLists = (statement: { raw(on: boolean): unknown }) => statement.raw(true) !== undefined
  return driverOf(new Database(file), troubleOf, asLists, release)
}

/** The library closes a file only once its statements are collected, and has no other way to let go of them. */
async function release(): Promise<void> {
  setFlagsFromString('--expose-gc')
  const collect = runInNewContext('gc') as () => void
  await new Promise((done) => setImmediate(done)) // until what has just been used is out of reach
  collect()
  await new Promise((done) => setImmediate(done)) // until the finalizers have run
}

function troubleOf(error: unknown): SqliteTrouble {
  const { rawCode, message } = (error ?? {}) as { rawCode?: unknown; message?: unknown }
  const inMessage = /^ConnectionFailed.*: (\d+)"\)$/.exec(String(message))
  return troubleOfCode(rawCode ?? (inMessage ? Number(inMessage[1]) : undefined))
}
