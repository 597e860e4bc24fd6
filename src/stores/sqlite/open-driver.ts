import { createRequire } from 'node:module'
import { MissingPackageError } from '../../core/errors/setup-errors.js'
import type { SqliteDriver } from './driver.js'
import { type Libsql, openLibsqlDriver } from './libsql-driver.js'
import { type NodeSqlite, openNodeDriver } from './node-driver.js'

const require = createRequire(import.meta.url)

/** Opens `file` with the runtime's own SQLite where it has one (Node >= 22.13), else with the package `libsql`. */
export function openDriver(file: string): SqliteDriver {
  const own = process.getBuiltinModule?.('node:sqlite') as NodeSqlite | undefined
  return own ? openNodeDriver(own, file) : openLibsqlDriver(libsql(), file)
}

function libsql(): Libsql {
  try {
    return require('libsql') as Libsql
  } catch (cause) {
    throw new MissingPackageError('libsql', `the SQLite store on Node ${process.versions.node}`, { cause })
  }
}
