import { readFileSync } from 'node:fs'
import { dirname, relative, resolve } from 'node:path'
import { pathToFileURL } from 'node:url'
import { isMap, isNode, isScalar, isSeq, LineCounter, parseDocument } from 'yaml'
import { checkFileConfig, type FileConfig } from '../config/check.js'
import type { StashConfig } from '../config/stash-config.js'
import { isAddress } from '../config/store-name.js'
import { ConfigError, UsageError } from '../core/errors/setup-errors.js'
import { isStashenError } from '../core/errors/stashen-error.js'
import type { Store } from '../core/ports/store.js'
import { exactJson } from '../core/rules/exact-json.js'
import { configFileOf } from './find-config.js'
import { namedStore } from './named-store.js'

/**
 * Loads and checks a configuration file: YAML, JSON, or a module whose default export it is. Left out: the `stashen.config.*` of the working directory, or of the nearest
 * one above it that has one, which is the one that commands read. A `store` may be named there: a file, beside the configuration where it is relative, or an
 * address, `redis://...`. Throws `ConfigError` with every fault, for YAML and JSON with line and column; `UsageError` where there is no such file, or it cannot be loaded.
 *
 * ```ts
 * const stash = await openStash(await loadConfig())
 * ```
 */
export async function loadConfig(file?: string): Promise<StashConfig> {
  const found = configFileOf(file)
  const { config, store } = await readConfig(found)
  return store === undefined ? config : { ...config, store: typeof store === 'string' ? await namedStore(store) : store }
}

/** What a configuration file holds. `store`: what it gives as that, or names, by its whole path. */
export interface ReadConfig {
  readonly config: Omit<StashConfig, 'store'>
  readonly store: Store | string | undefined
}

/** As `loadConfig`, without making the store that it names. */
export async function readConfig(file: string): Promise<ReadConfig> {
  try {
    const { store, ...config } = await checkedConfig(file)
    if (typeof store !== 'string') return { config, store }
    return { config, store: isAddress(store) ? store : resolve(dirname(file), store) }
  } catch (error) {
    if (error instanceof ConfigError)
      throw new ConfigError(error.faults, { what: `the configuration "${relative('', file) || file}"`, undone: 'opened' })
    if (isStashenError(error)) throw error
    throw new UsageError(`"${file}" cannot be loaded: ${error instanceof Error ? error.message : String(error)}`, { cause: error })
  }
}

async function checkedConfig(file: string): Promise<FileConfig> {
  if (/\.(json|ya?ml)$/.test(file)) return parsedConfig(readFileSync(file, 'utf8'))
  const module = (await import(pathToFileURL(resolve(file)).href)) as { default?: unknown }
  if (module.default === undefined)
    throw new ConfigError([{ path: '', message: 'the module has no default export: export the configuration as default' }])
  checkFileConfig(module.default)
  return module.default
}

function parsedConfig(text: string): FileConfig {
  const json = exactJson(text)
  if (json && isRight(json.is)) return json.is // which is quick; all else is told with its place
  const lines = new LineCounter()
  const document = parseDocument(text, { lineCounter: lines, prettyErrors: false })
  if (document.errors.length > 0) {
    throw new ConfigError(document.errors.map(({ message, pos }) => ({ path: '', message, ...placeOf(lines, pos[0]) })))
  }
  const config: unknown = document.toJS()
  try {
    checkFileConfig(config)
    return config
  } catch (error) {
    if (!(error instanceof ConfigError)) throw error
    const offsets = offsetsOf(document.contents)
    throw new ConfigError(error.faults.map((fault) => ({ ...fault, ...placeOf(lines, offsetOf(offsets, fault.path)) })))
  }
}

function isRight(config: unknown): config is FileConfig {
  try {
    checkFileConfig(config)
    return true
  } catch {
    return false
  }
}

/** Where each value of a document stands, by the steps that lead to it. */
function offsetsOf(contents: unknown): ReadonlyMap<string, number> {
  const offsets = new Map<string, number>()
  const walk = (node: unknown, path: string): void => {
    if (!isNode(node)) return
    if (node.range) offsets.set(path, node.range[0])
    if (isMap(node)) for (const { key, value } of node.items) walk(value, stepTo(path, isScalar(key) ? String(key.value) : String(key)))
    if (isSeq(node)) for (const [i, item] of node.items.entries()) walk(item, stepTo(path, String(i)))
  }
  walk(contents, '')
  return offsets
}

function stepTo(path: string, step: string): string {
  return path === '' ? step : `${path}\n${step}`
}

/** Where the value of a fault's path stands, or that of the nearest part of the path that does. */
function offsetOf(offsets: ReadonlyMap<string, number>, path: string): number {
  const steps = path.split(/[.[\]]+/).filter((step) => step !== '')
  for (let length = steps.length; length > 0; length--) {
    const offset = offsets.get(steps.slice(0, length).join('\n'))
    if (offset !== undefined) return offset
  }
  return 0
}

function placeOf(lines: LineCounter, offset: number): { line: number; column: number } {
  const { line, col } = lines.linePos(offset)
  return { line, column: col }
}
