import { readFileSync } from 'node:fs'
import { resolve } from 'node:path'
import { pathToFileURL } from 'node:url'
import { isMap, isNode, isScalar, isSeq, LineCounter, parseDocument } from 'yaml'
import { ConfigError } from '../core/errors/setup-errors.js'
import { exactJson } from '../core/rules/exact-json.js'
import { checkConfig } from './check.js'
import type { StashConfig } from './stash-config.js'

/** Names of configuration files, in the order they are looked for. */
export const configFiles = ['ts', 'mts', 'js', 'mjs', 'json', 'yaml', 'yml'].map((ending) => `stashen.config.${ending}`)

/**
 * Loads and checks a configuration file: YAML, JSON, or a module whose default export it is. Throws `ConfigError` with every fault,
 * for YAML and JSON with line and column, and what reading or importing the file throws.
 */
export async function loadConfig(file: string): Promise<StashConfig> {
  if (/\.(json|ya?ml)$/.test(file)) return parsedConfig(readFileSync(file, 'utf8'))
  const module = (await import(pathToFileURL(resolve(file)).href)) as { default?: unknown }
  if (module.default === undefined)
    throw new ConfigError([{ path: '', message: 'the module has no default export: export the configuration as default' }])
  checkConfig(module.default)
  return module.default
}

function parsedConfig(text: string): StashConfig {
  const json = exactJson(text)
  if (json && isRight(json.is)) return json.is // which is quick; all else is told with its place
  const lines = new LineCounter()
  const document = parseDocument(text, { lineCounter: lines, prettyErrors: false })
  if (document.errors.length > 0) {
    throw new ConfigError(document.errors.map(({ message, pos }) => ({ path: '', message, ...placeOf(lines, pos[0]) })))
  }
  const config: unknown = document.toJS()
  try {
    checkConfig(config)
    return config
  } catch (error) {
    if (!(error instanceof ConfigError)) throw error
    const offsets = offsetsOf(document.contents)
    throw new ConfigError(error.faults.map((fault) => ({ ...fault, ...placeOf(lines, offsetOf(offsets, fault.path)) })))
  }
}

function isRight(config: unknown): config is StashConfig {
  try {
    checkConfig(config)
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
