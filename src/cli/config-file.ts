import { existsSync } from 'node:fs'
import { configFiles, loadConfig } from '../config/load-config.js'
import type { StashConfig } from '../config/stash-config.js'
import { ConfigError, UsageError } from '../core/errors/setup-errors.js'

/** The configuration file that is meant, and what it holds. */
export async function configOf(file: string | undefined): Promise<{ file: string; config: StashConfig }> {
  const found = file ?? configFiles.find((name) => existsSync(name))
  if (found === undefined) throw new UsageError(`there is no ${configFiles.join(', ')} here: name a configuration file with --config`)
  if (!existsSync(found)) throw new UsageError(`there is no file "${found}": name an existing configuration file with --config`)
  try {
    return { file: found, config: await loadConfig(found) }
  } catch (error) {
    if (error instanceof ConfigError) throw error
    throw new UsageError(`"${found}" cannot be loaded: ${error instanceof Error ? error.message : String(error)}`)
  }
}
