import { readdirSync, readlinkSync, realpathSync } from 'node:fs'
import { setImmediate as nextTurn } from 'node:timers/promises'
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
  const database = new Database(file)
  const path = realPathOf(file)
  return driverOf(database, troubleOf, asLists, () => release(path))
}

/**
 * The library closes a file only once its statements are collected, and has no other way to let go of them. Young ones are collected quickly; all are only
 * where some of the file is still held, or that cannot be seen.
 */
async function release(path: string | undefined): Promise<void> {
  setFlagsFromString('--expose-gc')
  const collect = runInNewContext('gc') as (how?: { type: 'minor' }) => void
  await nextTurn() // until what has just been used is out of reach
  collect({ type: 'minor' })
  await nextTurn() // until the finalizers have run
  if (!isHeld(path)) return
  collect()
  await nextTurn()
}

function realPathOf(file: string): string | undefined {
  try {
    return realpathSync(file)
  } catch {
    return undefined // it is in memory, or has gone
  }
}

/** Whether this process holds a file or what lies beside it, as far as Linux says so. */
function isHeld(path: string | undefined): boolean {
  if (path === undefined) return true
  try {
    return readdirSync(openFiles).some((handle) => linkOf(`${openFiles}/${handle}`)?.startsWith(path))
  } catch {
    return true
  }
}

const openFiles = '/proc/self/fd'

/** Undefined for a handle that is closed by now. */
function linkOf(handle: string): string | undefined {
  try {
    return readlinkSync(handle)
  } catch {
    return undefined
  }
}

function troubleOf(error: unknown): SqliteTrouble {
  const { rawCode, message } = (error ?? {}) as { rawCode?: unknown; message?: unknown }
  const inMessage = /^ConnectionFailed.*: (\d+)"\)$/.exec(String(message))
  return troubleOfCode(rawCode ?? (inMessage ? Number(inMessage[1]) : undefined))
}
