import type { Maybe } from '../../core/ports/maybe.js'
import type { Opening } from '../../core/ports/store.js'
import { type SqliteDriver, type Statement, transactions } from './driver.js'
import { openFile } from './open-file.js'
import { identityOf, setAside } from './set-aside.js'

/** An open file, with its statements prepared once each; where it turns out to be corrupt it is set aside and a new one begun. */
export class SqliteFile {
  readonly #path: string
  readonly readOnly: boolean
  #opening!: Opening
  #onNewFile: () => void = () => {}
  #identity: string | undefined
  #driver: SqliteDriver = closedDriver
  #inTransaction: ReturnType<typeof transactions> = () => closedDriver.prepare('') as never
  #statements = new Map<string, Statement>()

  constructor(path: string, readOnly: boolean) {
    this.#path = path
    this.readOnly = readOnly
  }

  /** `onNewFile`: called once a new file was begun in place of a corrupt one. */
  open(opening: Opening, onNewFile: () => void): void {
    this.#opening = opening
    this.#onNewFile = onNewFile
    this.#statements.clear()
    this.#driver = openFile(this.#path, opening, this.readOnly)
    this.#inTransaction = transactions(this.#driver)
    this.#identity = identityOf(this.#path)
  }

  /** A statement of the present file. Do not keep it. */
  statement(sql: string): Statement {
    let statement = this.#statements.get(sql)
    if (!statement) {
      statement = this.#driver.prepare(sql)
      this.#statements.set(sql, statement)
    }
    return statement
  }

  /** Does work on the file; where it turns out to be corrupt, does it again on a new one. */
  do<T>(work: () => T): T {
    try {
      return work()
    } catch (error) {
      return this.again(error, work)
    }
  }

  /** As `do`, as one write transaction: all of the work is done, or none. */
  inTransaction<T>(work: () => T): T {
    return this.do(() => this.#inTransaction(work))
  }

  /** Does work again that failed, if that was because the file is corrupt; else throws the error. */
  again<T>(error: unknown, work: () => T): T {
    const trouble = this.#driver.troubleOf(error)
    if (this.readOnly || (trouble !== 'corrupt' && trouble !== 'not-a-database')) throw error
    this.#beginAnew()
    return work()
  }

  /** Another process on the same file may have set it aside already. */
  #beginAnew(): void {
    try {
      this.#driver.close()
    } catch {
      // it cannot be closed any better
    }
    const { now, warn } = this.#opening
    if (identityOf(this.#path) === this.#identity) setAside(this.#path, Math.max(now, Date.now()), warn)
    this.open(this.#opening, this.#onNewFile)
    this.#onNewFile()
  }

  /** Leaves everything in the one file, so that it can be copied or moved. */
  close(): Maybe<void> {
    const driver = this.#driver
    if (!this.readOnly) driver.exec('PRAGMA wal_checkpoint(TRUNCATE)')
    this.#statements.clear()
    this.#driver = closedDriver
    this.#inTransaction = () => closedDriver.prepare('') as never
    return driver.close()
  }
}

/** Stands for a file that is not open. */
const closedDriver: SqliteDriver = {
  exec: notOpen,
  prepare: notOpen,
  close() {},
  troubleOf: () => 'other',
}

function notOpen(): never {
  throw new Error('the store is not open')
}
