import { existsSync, statSync } from 'node:fs'
import type { Command } from 'commander'
import { isAddress, nameWithoutPassword, storeForm } from '../config/store-name.js'
import { findConfig } from '../config-file/find-config.js'
import { namedStore } from '../config-file/named-store.js'
import { UsageError } from '../core/errors/setup-errors.js'
import type { Store } from '../core/ports/store.js'
import { configOf } from './config-file.js'

/** Which store is meant: by what it is named, else that of the configuration. */
export interface StoreChoice {
  readonly store?: string | undefined
  readonly config?: string | undefined
}

/** Adds `--store`, and `--config` unless the command has it. */
export function addStoreOption(command: Command, what: string, { hasConfig = false } = {}): Command {
  command.option('--store <store>', `${what}: ${storeForm} (default: the "store" of the configuration)`)
  return hasConfig
    ? command
    : command.option('--config <file>', 'the configuration file (default: stashen.config.* in this folder or above)')
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

/** A store that need not be there yet, not opened. */
export async function newStore(choice: StoreChoice): Promise<Store> {
  const meant = await meantStore(choice)
  return typeof meant === 'string' ? namedStore(meant) : meant
}

/** The name of a store, or one as the application has it, which decides whether it can be read without being changed. */
async function meantStore({ store, config: named }: StoreChoice): Promise<Store | string> {
  if (store !== undefined) return store
  if (named === undefined && findConfig() === undefined)
    throw new UsageError(`no store is named: give --store, ${storeForm}, or a configuration with a "store"`)
  const { file, store: its } = await configOf(named)
  if (its !== undefined) return its
  throw new UsageError(`"${file}" has no "store": name one there, or with --store, ${storeForm}`)
}

async function openExisting(choice: StoreChoice, readOnly: boolean): Promise<Store> {
  const meant = await meantStore(choice)
  if (typeof meant === 'string' && !isAddress(meant)) checkFile(meant)
  const store = typeof meant === 'string' ? await namedStore(meant, { readOnly }) : meant
  await store.open({ now: Date.now(), warn: (message) => console.warn(`stashen: ${message}`) })
  return store
}

function checkFile(file: string): void {
  if (!existsSync(file)) throw new UsageError(`there is no file "${file}": name an existing store file with --store`)
  if (!statSync(file).isFile()) throw new UsageError(`"${file}" is not a file: name an existing store file with --store`)
}
