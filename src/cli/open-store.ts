import { existsSync, statSync } from 'node:fs'
import { UsageError } from '../core/errors/setup-errors.js'
import type { Store } from '../core/ports/store.js'
import { sqliteStore } from '../stores/sqlite/store.js'

/** What `--store` takes, for its help. */
export const storeHelp = 'a file, or redis://HOST:PORT[/DATABASE][?prefix=PREFIX]'

/** An existing store, opened only to read: a file, or the address of a server. */
export function openToRead(named: string): Promise<Store> {
  return openExisting(named, true)
}

/** An existing store, opened to be changed. */
export function openToWrite(named: string): Promise<Store> {
  return openExisting(named, false)
}

/** Whether a store is named by where it is on a network, not by its file. */
export function isAddress(named: string): boolean {
  return /^[a-z][a-z0-9+.-]+:\/\//i.test(named)
}

/** The name of a store without a password. */
export function nameWithoutPassword(named: string): string {
  if (!isAddress(named)) return named
  if (!URL.canParse(named)) return named.replace(/\/\/.*@/, '//')
  const url = new URL(named)
  url.password = ''
  return url.href
}

/** A store that need not be there yet, not opened. */
export function newStore(named: string): Store | Promise<Store> {
  return isAddress(named) ? storeAt(named, false) : sqliteStore(named)
}

async function openExisting(named: string, readOnly: boolean): Promise<Store> {
  const store = isAddress(named) ? await storeAt(named, readOnly) : storeInFile(named, readOnly)
  await store.open({ now: Date.now(), warn: () => {} })
  return store
}

function storeInFile(file: string, readOnly: boolean): Store {
  if (!existsSync(file)) throw new UsageError(`there is no file "${file}": name an existing store file with --store`)
  if (!statSync(file).isFile()) throw new UsageError(`"${file}" is not a file: name an existing store file with --store`)
  return sqliteStore(file, { readOnly })
}

async function storeAt(url: string, readOnly: boolean): Promise<Store> {
  if (!/^rediss?:/i.test(url))
    throw new UsageError(`--store takes ${storeHelp}: there are no stores at "${url.slice(0, url.indexOf(':'))}:" addresses`)
  const { redisStore } = await import('../stores/redis/store.js')
  return redisStore({ url, readOnly })
}
