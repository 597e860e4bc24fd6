import type { Maybe } from '../../core/ports/maybe.js'
import type { Opening, StoreFacts } from '../../core/ports/store.js'
import { type ListStatement, type SqliteDriver, type Statement, transactions } from './driver.js'
import { whileLocked } from './file-lock.js'
import { type FileLoss, type FileMark, isInPlace, lossOf, markOf, mayWrite, removeLeftovers } from './file-mark.js'
import { openFile } from './open-file.js'
import { adopt, rescue } from './rescue.js'
import { setAside } from './set-aside.js'

/** How often a file in use is looked at, milliseconds. */
const lookEveryMs = 1_000

/** A connection to a file, with its statements prepared once each. */
interface Connection {
  readonly driver: SqliteDriver
  readonly inTransaction: ReturnType<typeof transactions>
  readonly statements: Map<string, Statement>
  readonly lists: Map<string, ListStatement>
  readonly mark: FileMark
  /** Of the store. */
  readonly id: string
}

/**
 * An open file. One that is lost while it is in use, because it was deleted, replaced or shortened, by anyone, or is corrupt, is recreated
 * with everything of it that still can be read, but for its entries.
 */
export class SqliteFile {
  readonly #path: string
  readonly readOnly: boolean
  #opening!: Opening
  #onNewFile: () => void = () => {}
  #connection: Connection = notConnected
  #isInTransaction = false
  #timer: NodeJS.Timeout | undefined
  /** Whether it was told that the file is lost and cannot be recreated. */
  #isTold = false

  constructor(path: string, readOnly: boolean) {
    this.#path = path
    this.readOnly = readOnly
  }

  /** `onNewFile`: called once another file is used in place of the one that was opened. */
  open(opening: Opening, onNewFile: () => void): void {
    this.#opening = opening
    this.#onNewFile = onNewFile
    this.#connection = this.#connect(opening)
    if (!this.readOnly) this.#timer = setInterval(() => this.#look(), lookEveryMs).unref()
  }

  /** A statement of the present file. Do not keep it. */
  statement(sql: string): Statement {
    const { statements, driver } = this.#connection
    let statement = statements.get(sql)
    if (!statement) {
      statement = driver.prepare(sql)
      statements.set(sql, statement)
    }
    return statement
  }

  /** One that reads a row as a list. Do not keep it. */
  list(sql: string): ListStatement {
    const { lists, driver } = this.#connection
    let statement = lists.get(sql)
    if (!statement) {
      statement = driver.prepareList(sql)
      lists.set(sql, statement)
    }
    return statement
  }

  /** Does work on the file; where it turns out to be lost, does it again on a new one. */
  do<T>(work: () => T): T {
    try {
      return work()
    } catch (error) {
      return this.again(error, work)
    }
  }

  /** As `do`, as one write transaction: all of the work is done, or none. What is written so never goes into a file that is lost. */
  inTransaction<T>(work: () => T): T {
    if (this.#isInTransaction) return work()
    return this.do(() => {
      for (;;) {
        const done = this.#transact(() => (isInPlace(this.#path, this.#connection.mark) ? { result: work() } : undefined))
        if (done) return done.result
        const loss = this.#loss()
        if (loss && !this.#beginAnew(loss)) return (this.#transact(() => ({ result: work() })) as { result: T }).result
      }
    })
  }

  /** Does work again that failed, if that was because the file is lost or corrupt; else throws the error. */
  again<T>(error: unknown, work: () => T): T {
    if (this.readOnly || this.#isInTransaction) throw error
    const trouble = this.#connection.driver.troubleOf(error)
    const isCorrupt = trouble === 'corrupt' || trouble === 'not-a-database'
    const loss = lossOf(this.#path, this.#connection.mark) ?? (isCorrupt ? 'corrupt' : undefined)
    if (!loss || !this.#beginAnew(loss)) throw error
    return work()
  }

  inspect(): StoreFacts {
    const version = this.do(() => this.statement('SELECT sqlite_version() AS version').get()?.version)
    return { on: `SQLite ${version}`, isWritable: mayWrite(this.#path) }
  }

  /** Leaves everything in the one file, so that it can be copied or moved. */
  close(): Maybe<void> {
    clearInterval(this.#timer)
    const { driver, mark } = this.#connection
    if (!this.readOnly && isInPlace(this.#path, { ...mark, size: 0 })) attempt(() => driver.exec('PRAGMA wal_checkpoint(TRUNCATE)')) // another may have it locked
    forget(this.#connection)
    this.#connection = notConnected
    return driver.close()
  }

  #connect(opening: Opening): Connection {
    const driver = openFile(this.#path, opening, this.readOnly)
    const id = String(driver.prepare('SELECT id FROM store').get()?.id)
    return { driver, inTransaction: transactions(driver), statements: new Map(), lists: new Map(), mark: markOf(this.#path), id }
  }

  #transact<T>(work: () => T): T {
    this.#isInTransaction = true
    try {
      return this.#connection.inTransaction(work)
    } finally {
      this.#isInTransaction = false
    }
  }

  #look(): void {
    const loss = this.#loss()
    if (loss) this.#beginAnew(loss)
  }

  /** What became of the file; undefined where it is what it was, as far as can be seen. */
  #loss(): FileLoss | undefined {
    const loss = lossOf(this.#path, this.#connection.mark)
    if (loss && !(loss === 'shortened' && this.#isSound())) return loss
    this.#connection = { ...this.#connection, mark: markOf(this.#path) }
    return undefined
  }

  /** Whether a file that became shorter is complete: it may have been tidied up. */
  #isSound(): boolean {
    try {
      return this.#connection.driver.prepare('PRAGMA quick_check(1)').get()?.quick_check === 'ok'
    } catch {
      return false
    }
  }

  /**
   * Goes on with another file in place of the one that is lost. Whoever has that open takes its write lock first and writes nothing into it
   * afterwards, so nothing is missed of what is taken over. Returns false where it cannot be done: then the lost file is used on.
   */
  #beginAnew(loss: FileLoss | 'corrupt'): boolean {
    const old = this.#connection
    const locked = attempt(() => old.driver.exec('BEGIN IMMEDIATE'))
    try {
      const [connection, words] = whileLocked(this.#path, () => this.#next(old, loss))
      this.#connection = connection
      this.#isTold = false
      this.#opening.warn(`store "${this.#path}" ${words}`)
    } catch (error) {
      const why = error instanceof Error ? error.message : String(error)
      const lost = 'was lost while it was in use and no other can be begun: until one can, it is used on, and what it holds ends with it'
      if (!this.#isTold) this.#opening.warn(`store "${this.#path}" ${lost}: ${why}`)
      this.#isTold = true
      return false
    } finally {
      if (locked) attempt(() => old.driver.exec('ROLLBACK'))
    }
    forget(old)
    attempt(() => old.driver.close())
    this.#onNewFile()
    return true
  }

  /** The connection to the next file, and what is to be said of it. */
  #next(old: Connection, loss: FileLoss | 'corrupt'): [Connection, string] {
    const opening = { ...this.#opening, now: Math.max(this.#opening.now, Date.now()) }
    const was = lossOf(this.#path, old.mark) ?? loss // another process may have begun the next one
    const isInTheWay = was === 'shortened' || was === 'separated' || was === 'corrupt'
    const aside = isInTheWay ? setAside(this.#path, opening.now) : undefined
    if (!isInTheWay) removeLeftovers(this.#path, old.mark)
    const connection = this.#connect(opening)
    try {
      connection.inTransaction(() => adopt(connection.driver, old.id, () => rescue(old.driver)))
    } catch (error) {
      attempt(() => connection.driver.close())
      throw error
    }
    const taken = 'what could be read of its counts and limits was taken over, stored answers were not'
    if (aside !== undefined) return [connection, `is corrupt: it was renamed to "${aside}" and a new one begun; ${taken}`]
    if (was === 'replaced') return [connection, 'was replaced by another file while it was in use, which is used from now on']
    return [connection, `was deleted while it was in use: a new one was begun; ${taken}`]
  }
}

/** Statements are not kept once their file is closed. */
function forget({ statements, lists }: Connection): void {
  statements.clear()
  lists.clear()
}

function attempt(work: () => unknown): boolean {
  try {
    work()
    return true
  } catch {
    return false
  }
}

/** Stands for a file that is not open. */
const closedDriver: SqliteDriver = {
  exec: notOpen,
  prepare: notOpen,
  prepareList: notOpen,
  close() {},
  troubleOf: () => 'other',
}
const notConnected: Connection = {
  ...{ driver: closedDriver, inTransaction: notOpen, statements: new Map(), lists: new Map(), id: '' },
  mark: { file: undefined, beside: [], size: 0 },
}

function notOpen(): never {
  throw new Error('the store is not open')
}
