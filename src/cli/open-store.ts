import { existsSync, statSync } from 'node:fs'
import type { Command } from 'commander'
import { configFiles } from '../config/load-config.js'
import { UsageError } from '../core/errors/setup-errors.js'
import type { Store } from '../core/ports/store.js'
import type { EncryptionKey } from '../stores/packed/options.js'
import { packedStore } from '../stores/packed/store.js'
import { sqliteStore } from '../stores/sqlite/store.js'
import { configOf } from './config-file.js'

/** What `--store` takes, for its help. */
export const storeHelp = 'a file, or redis://HOST:PORT[/DATABASE][?prefix=PREFIX]'

/** Which store is meant: by what it is named, else that of the configuration. */
export interface StoreChoice {
  readonly store?: string | undefined
  readonly config?: string | undefined
}

/** Adds `--store`, and `--config` unless the command has it. */
export function addStoreOption(command: Command, what: string, { hasConfig = false } = {}): Command {
  command.option('--store <store>', `${what}: ${storeHelp} (default: the "store" of the configuration)`)
  return hasConfig ? command : command.option('--config <file>', 'the configuration file (default: stashen.config.* in this folder)')
}

/** An existing store, opened only to read. */
export function openToRead(choice: StoreChoice): Promise<Store> {
  return openExisting(choice, true)
}

/** An existing store, opened to be changed. */
export function openToWrite(choice: StoreChoice): Promise<Store> {
  return openExisting(choice, false)
}

/** What the store is called in messages: without a password. */
export function nameOf({ store }: StoreChoice): string {
  return store === undefined ? 'the store of the configuration' : `"${nameWithoutPassword(store)}"`
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
export function newStore(choice: StoreChoice): Store | Promise<Store> {
  const { store: named } = choice
  if (named === undefined) return storeOfConfig(choice)
  return isAddress(named) ? storeAt(named, false) : unpacked(sqliteStore(named))
}

/** The environment variable that has the keys of stores that are encrypted, and what it looks like. */
const keysVariable = 'STASHEN_ENCRYPTION_KEYS'
const keysForm = 'give ID:SECRET, or several with commas between, the one that encrypts first; each secret 32 bytes in Base64'

/** A store whose answers can be read also where they are compressed, and where they are encrypted with a key that the environment has. */
function unpacked(store: Store): Store {
  const text = process.env[keysVariable]
  return packedStore(text ? { store, encrypt: { keys: keysIn(text) } } : { store })
}

function keysIn(text: string): EncryptionKey[] {
  const keys = text.split(',').map((one) => {
    const [, id = '', secret = ''] = /^\s*([\w.-]{1,64}):([A-Za-z0-9+/=]{44})\s*$/.exec(one) ?? []
    return { id, secret }
  })
  if (keys.some(({ id }) => id === '')) throw new UsageError(`${keysVariable} holds something else than keys: ${keysForm}`)
  return keys
}

/** As the application has it: it decides whether it can be read without being changed. */
async function storeOfConfig({ config: named }: StoreChoice): Promise<Store> {
  if (named === undefined && !configFiles.some((name) => existsSync(name)))
    throw new UsageError(`no store is named: give --store, ${storeHelp}, or a configuration with a "store"`)
  const { file, config } = await configOf(named)
  if (config.store) return config.store
  throw new UsageError(`"${file}" has no "store": give one there (in a .ts or .js file), or name one with --store, ${storeHelp}`)
}

async function openExisting(choice: StoreChoice, readOnly: boolean): Promise<Store> {
  const { store: named } = choice
  const store =
    named === undefined ? await storeOfConfig(choice) : isAddress(named) ? await storeAt(named, readOnly) : storeInFile(named, readOnly)
  await store.open({ now: Date.now(), warn: (message) => console.warn(`stashen: ${message}`) })
  return store
}

function storeInFile(file: string, readOnly: boolean): Store {
  if (!existsSync(file)) throw new UsageError(`there is no file "${file}": name an existing store file with --store`)
  if (!statSync(file).isFile()) throw new UsageError(`"${file}" is not a file: name an existing store file with --store`)
  return unpacked(sqliteStore(file, { readOnly }))
}

async function storeAt(url: string, readOnly: boolean): Promise<Store> {
  if (!/^rediss?:/i.test(url))
    throw new UsageError(`--store takes ${storeHelp}: there are no stores at "${url.slice(0, url.indexOf(':'))}:" addresses`)
  const { redisStore } = await import('../stores/redis/store.js')
  return unpacked(redisStore({ url, readOnly }))
}
