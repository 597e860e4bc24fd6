import { type Row, type SqliteDriver, type SqlValue, type Statement, troubleOfCode } from './driver.js'

/** What is used of the runtime's own `node:sqlite`. */
export interface NodeSqlite {
  DatabaseSync: new (file: string) => { exec(sql: string): void; prepare(sql: string): NodeStatement; close(): void }
}

interface NodeStatement {
  get(...parameters: SqlValue[]): unknown
  all(...parameters: SqlValue[]): unknown[]
  run(...parameters: SqlValue[]): { changes: number | bigint }
}

/** SQLite through the runtime's own module. */
export function openNodeDriver({ DatabaseSync }: NodeSqlite, file: string): SqliteDriver {
  const database = new DatabaseSync(file)
  return {
    exec: (sql) => database.exec(sql),
    prepare(sql): Statement {
      const statement = database.prepare(sql)
      return {
        get: (...parameters) => statement.get(...parameters) as Row | undefined,
        all: (...parameters) => statement.all(...parameters) as Row[],
        run: (...parameters) => Number(statement.run(...parameters).changes),
      }
    },
    close: () => database.close(),
    troubleOf: (error) => troubleOfCode((error as { errcode?: unknown } | undefined)?.errcode),
  }
}
