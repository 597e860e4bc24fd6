import { readFileSync } from 'node:fs'
import { resolve } from 'node:path'
import { pathToFileURL } from 'node:url'
import { type Document, LineCounter, parseDocument } from 'yaml'
import { ConfigError, type ConfigFault } from '../core/errors/setup-errors.js'
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
    throw new ConfigError(error.faults.map((fault) => ({ ...fault, ...placeOf(lines, offsetOf(document, fault)) })))
  }
}

/** Where the value of a fault's path stands, or that of the nearest part of the path that does. */
function offsetOf(document: Document, { path }: ConfigFault): number {
  const steps = path.split(/[.[\]]+/).filter((step) => step !== '')
  for (let length = steps.length; length > 0; length--) {
    const node = document.getIn(steps.slice(0, length), true) as { range?: [number, number, number] | null } | undefined
    if (node?.range) return node.range[0]
  }
  return 0
}

function placeOf(lines: LineCounter, offset: number): { line: number; column: number } {
  const { line, col } = lines.linePos(offset)
  return { line, column: col }
}
