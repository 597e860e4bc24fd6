import type { Maybe } from '../../core/ports/maybe.js'

/** The few things asked of an SQLite library. Everything is done at once, nothing is awaited. */
export interface SqliteDriver {
  exec(sql: string): void
  prepare(sql: string): Statement
  /** A statement that reads one row, as the list of its values: quicker than by their names. */
  prepareList(sql: string): ListStatement
  /** Gives the file back; statements must not be used, nor kept, afterwards. */
  close(): Maybe<void>
  /** What an error of the library means. */
  troubleOf(error: unknown): SqliteTrouble
}

/** Troubles that a store can say something useful of, by SQLite's primary result codes (sqlite.org/rescode.html). */
export type SqliteTrouble = 'busy' | 'read-only' | 'not-a-database' | 'corrupt' | 'cannot-open' | 'other'

type SqlValue = string | number | Uint8Array | null
export type Row = Readonly<Record<string, unknown>>

/** Parameters go by position; give all of them. */
export interface Statement {
  get(...parameters: SqlValue[]): Row | undefined
  all(...parameters: SqlValue[]): Row[]
  /** Returns how many rows changed. */
  run(...parameters: SqlValue[]): number
}

export interface ListStatement {
  get(...parameters: SqlValue[]): readonly unknown[] | undefined
}

interface RawStatement {
  get(...parameters: SqlValue[]): unknown
  all(...parameters: SqlValue[]): unknown[]
  run(...parameters: SqlValue[]): { changes: number | bigint }
}

/** What the SQLite libraries have in common. */
export interface RawDatabase<S extends RawStatement = RawStatement> {
  exec(sql: string): void
  prepare(sql: string): S
  close(): void
}

/**
 * `asLists` has a statement give lists, if it can: else they are made of its rows. `released`: what is to be done after closing so that
 * nothing of the file is held any more.
 */
export function driverOf<S extends RawStatement>(
  database: RawDatabase<S>,
  troubleOf: SqliteDriver['troubleOf'],
  asLists: (statement: S) => boolean,
  released: () => Maybe<void> = () => {},
): SqliteDriver {
  const waiting = <P extends unknown[], T>(work: (...given: P) => T) =>
    function once(...given: P): T {
      try {
        return work(...given)
      } catch (error) {
        return whileBusy(error, troubleOf, () => work(...given))
      }
    }
  const held: { database?: RawDatabase<S>; readonly statements: { its?: S }[] } = { database, statements: [] }
  const prepared = (sql: string): { its?: S } => {
    const statement = { its: opened(held.database).prepare(sql) }
    held.statements.push(statement)
    return statement
  }
  return {
    exec: waiting((sql: string) => opened(held.database).exec(sql)),
    prepare: waiting((sql: string): Statement => {
      const statement = prepared(sql)
      return {
        get: waiting((...parameters: SqlValue[]) => opened(statement.its).get(...parameters) as Row | undefined),
        all: waiting((...parameters: SqlValue[]) => opened(statement.its).all(...parameters) as Row[]),
        run: waiting((...parameters: SqlValue[]) => Number(opened(statement.its).run(...parameters).changes)),
      }
    }),
    prepareList: waiting((sql: string): ListStatement => {
      const statement = prepared(sql)
      if (asLists(opened(statement.its)))
        return { get: waiting((...parameters: SqlValue[]) => opened(statement.its).get(...parameters) as unknown[] | undefined) }
      return {
        get: waiting((...parameters: SqlValue[]) => {
          const row = opened(statement.its).get(...parameters)
          return row === undefined ? undefined : Object.values(row as Row)
        }),
      }
    }),
    close() {
      held.database?.close()
      held.database = undefined
      for (const statement of held.statements) statement.its = undefined // whatever still holds this driver holds nothing of the file
      held.statements.length = 0
      return released()
    },
    troubleOf,
  }
}

function opened<T>(one: T | undefined): T {
  if (one === undefined) throw new Error('the file is closed')
  return one
}

/** How long another process may keep the file locked, milliseconds. */
const lockedAtMostMs = 2_000

/** How long it is waited before the lock is asked for again, milliseconds: at first, and at the most. */
const firstWaitMs = 0.05
const longestWaitMs = 1

/**
 * Does work again that failed for a lock, until that is free. SQLite would wait a millisecond at least, and more each time, for what is held
 * for a tenth of one.
 */
function whileBusy<T>(failed: unknown, troubleOf: SqliteDriver['troubleOf'], work: () => T): T {
  const until = performance.now() + lockedAtMostMs
  let error = failed
  for (let waitMs = firstWaitMs; troubleOf(error) === 'busy' && performance.now() < until; waitMs = Math.min(2 * waitMs, longestWaitMs)) {
    Atomics.wait(sleeping, 0, 0, waitMs)
    try {
      return work()
    } catch (again) {
      error = again
    }
  }
  throw error
}

/** Never changes: whoever waits for it sleeps. */
const sleeping = new Int32Array(new SharedArrayBuffer(4))

/** Returns what runs `work` as one write transaction: all of it happens, or nothing. */
export function transactions(driver: SqliteDriver): <T>(work: () => T) => T {
  const [begin, commit, rollBack] = [driver.prepare('BEGIN IMMEDIATE'), driver.prepare('COMMIT'), driver.prepare('ROLLBACK')]
  return (work) => {
    begin.run()
    try {
      const done = work()
      commit.run()
      return done
    } catch (error) {
      try {
        rollBack.run()
      } catch {
        // SQLite has rolled back already, or cannot
      }
      throw error
    }
  }
}

/** The trouble that a primary or extended result code stands for. */
export function troubleOfCode(code: unknown): SqliteTrouble {
  switch (typeof code === 'number' ? code & 0xff : undefined) {
    case 5:
    case 6:
      return 'busy'
    case 8:
      return 'read-only'
    case 11:
      return 'corrupt'
    case 14:
      return 'cannot-open'
    case 26:
      return 'not-a-database'
    default:
      return 'other'
  }
}
