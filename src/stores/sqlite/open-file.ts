import { randomUUID } from 'node:crypto'
import { StoreError } from '../../core/errors/setup-errors.js'
import { StashenError } from '../../core/errors/stashen-error.js'
import type { Opening } from '../../core/ports/store.js'
import { type SqliteDriver, transactions } from './driver.js'
import { whileLocked } from './file-lock.js'
import { isInPlace, markOf } from './file-mark.js'
import { openDriver } from './open-driver.js'
import { isCorrupt, setAside } from './set-aside.js'
import { applicationId, createTables, formatVersion, migrations } from './tables.js'

/**
 * Opens or makes a store file. One of ours that is corrupt is set aside and a new one made, and `warn` is told. Throws `StoreError` that
 * says what is wrong with the file and what to do.
 */
export function openFile(file: string, { now, warn }: Opening, readOnly: boolean): SqliteDriver {
  const mark = markOf(file)
  try {
    return open(file, now, readOnly)
  } catch (error) {
    if (readOnly || !(error instanceof StoreError) || !isCorrupt(file, error)) throw error
    const aside = whileLocked(file, () => (isInPlace(file, mark) ? setAside(file, now) : undefined))
    if (aside !== undefined) warn(corruptAtOpening(file, aside))
    return open(file, now, readOnly)
  }
}

function open(file: string, now: number, readOnly: boolean): SqliteDriver {
  let driver: SqliteDriver | undefined
  try {
    driver = openDriver(file)
    driver.exec('PRAGMA busy_timeout = 0') // the driver waits
    assertOurs(driver, file, readOnly)
    if (readOnly) driver.exec('PRAGMA query_only = 1')
    else prepareToWrite(driver, now)
    return driver
  } catch (cause) {
    const trouble = driver ? driver.troubleOf(cause) : 'cannot-open'
    driver?.close()
    if (cause instanceof StashenError) throw cause
    const why = trouble === 'other' ? `cannot be opened: ${messageOf(cause)}` : explanations[trouble]
    throw new StoreError(`store "${file}" ${why}`, { cause })
  }
}

function corruptAtOpening(file: string, aside: string): string {
  return `store "${file}" is corrupt: it was renamed to "${aside}" and a new one begun; the counts in it are not in the new one's reports`
}

function messageOf(cause: unknown): string {
  return cause instanceof Error ? cause.message : String(cause)
}

const explanations = {
  busy: 'is locked by another process: close what uses it, or name another file',
  'read-only': 'cannot be written: check the permissions of the file and its folder, or name another file',
  'not-a-database': 'is not a Stashen store: name another file',
  corrupt: 'is corrupt: name another file, or open it to write, which sets it aside',
  'cannot-open': 'cannot be opened: check that its folder exists, that it is a file and that you may read and write it',
}

function assertOurs(driver: SqliteDriver, file: string, readOnly: boolean): void {
  const pragma = (name: string) => Number(driver.prepare(`PRAGMA ${name}`).get()?.[name])
  const tables = Number(driver.prepare('SELECT count(*) AS n FROM sqlite_schema').get()?.n)
  const id = pragma('application_id')
  if (id !== applicationId && (readOnly || id !== 0 || tables > 0))
    throw new StoreError(`store "${file}" ${explanations['not-a-database']}`)
  const version = formatOf(driver)
  if (version > formatVersion) {
    throw new StoreError(`store "${file}" was made by a newer version of Stashen: update this one, or name another file`)
  }
  if (version < formatVersion && (readOnly || !migrations.has(version))) {
    if (migrations.has(version))
      throw new StoreError(`store "${file}" was made by an older version of Stashen: open it to write once, which brings it up to date`)
    throw new StoreError(`store "${file}" was made by a version of Stashen from before the first release: name another file, or delete it`)
  }
}

/** The format of a file of ours; the present one where it is none yet. */
function formatOf(driver: SqliteDriver): number {
  const pragma = (name: string) => Number(driver.prepare(`PRAGMA ${name}`).get()?.[name])
  return pragma('application_id') === applicationId ? pragma('user_version') : formatVersion
}

/** Writing at once shows a file that is locked or read-only before anybody relies on it. */
function prepareToWrite(driver: SqliteDriver, now: number): void {
  driver.exec('PRAGMA journal_mode = WAL')
  driver.exec('PRAGMA synchronous = NORMAL')
  transactions(driver)(() => {
    for (let version = formatOf(driver); version < formatVersion; version++) driver.exec(migrations.get(version) ?? '')
    driver.exec(createTables)
    driver.prepare('INSERT OR IGNORE INTO store (one, id, opened_at) VALUES (1, ?, ?)').run(randomUUID(), now)
    driver.prepare('UPDATE store SET opened_at = ?').run(now)
  })
}
