import { type Row, type SqliteDriver, type SqlValue, type Statement, troubleOfCode } from './driver.js'

/** What is used of the package `libsql`. */
export type Libsql = new (file: string) => { exec(sql: string): void; prepare(sql: string): LibsqlStatement; close(): void }

interface LibsqlStatement {
  get(...parameters: SqlValue[]): unknown
  all(...parameters: SqlValue[]): unknown[]
  run(...parameters: SqlValue[]): { changes: number }
}

/**
 * SQLite through the package `libsql`, for runtimes without a module of their own. It takes bytes that are the only parameter
 * for something else and ends the process: no statement of ours has bytes alone.
 */
export function openLibsqlDriver(Database: Libsql, file: string): SqliteDriver {
  const database = new Database(file)
  return {
    exec: (sql) => database.exec(sql),
    prepare(sql): Statement {
      const statement = database.prepare(sql)
      return {
        get: (...parameters) => statement.get(...parameters) as Row | undefined,
        all: (...parameters) => statement.all(...parameters) as Row[],
        run: (...parameters) => statement.run(...parameters).changes,
      }
    },
    close: () => database.close(),
    troubleOf,
  }
}

function troubleOf(error: unknown): ReturnType<SqliteDriver['troubleOf']> {
  const { rawCode, message } = (error ?? {}) as { rawCode?: unknown; message?: unknown }
  const inMessage = /^ConnectionFailed.*: (\d+)"\)$/.exec(String(message))
  return troubleOfCode(rawCode ?? (inMessage ? Number(inMessage[1]) : undefined))
}
