import { existsSync, statSync } from 'node:fs'
import { UsageError } from '../core/errors/setup-errors.js'
import type { Store } from '../core/ports/store.js'
import { sqliteStore } from '../stores/sqlite/store.js'

/** An existing store file, opened only to read. */
export function openToRead(file: string): Promise<Store> {
  return openExisting(file, true)
}

/** An existing store file, opened to be changed. */
export function openToWrite(file: string): Promise<Store> {
  return openExisting(file, false)
}

async function openExisting(file: string, readOnly: boolean): Promise<Store> {
  if (!existsSync(file)) throw new UsageError(`there is no file "${file}": name an existing store file with --store`)
  if (!statSync(file).isFile()) throw new UsageError(`"${file}" is not a file: name an existing store file with --store`)
  const store = sqliteStore(file, { readOnly })
  await store.open({ now: Date.now(), warn: () => {} })
  return store
}
