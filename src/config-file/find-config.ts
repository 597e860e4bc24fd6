import { existsSync } from 'node:fs'
import { dirname, join, resolve } from 'node:path'
import { UsageError } from '../core/errors/setup-errors.js'

/** Names of configuration files, in the order they are looked for. */
const configFiles = ['ts', 'mts', 'js', 'mjs', 'json', 'yaml', 'yml'].map((ending) => `stashen.config.${ending}`)

/** The configuration file of a folder, or of the nearest one above it that has one; undefined where there is none. */
export function findConfig(folder: string = process.cwd()): string | undefined {
  for (let at = resolve(folder); ; at = dirname(at)) {
    const name = configFiles.find((one) => existsSync(join(at, one)))
    if (name !== undefined) return join(at, name)
    if (at === dirname(at)) return undefined
  }
}

/** The file that is meant. Throws `UsageError` where there is none. */
export function configFileOf(file: string | undefined): string {
  if (file !== undefined) {
    if (!existsSync(file)) throw new UsageError(`there is no file "${file}": name an existing configuration file`)
    return file
  }
  const found = findConfig()
  if (found !== undefined) return found
  throw new UsageError(
    `there is no stashen.config.yaml (or .yml, .json, .js, .mjs, .ts, .mts) in ${process.cwd()} or above: make one there, or name one, with --config FILE or loadConfig(FILE)`,
  )
}
