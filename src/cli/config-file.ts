import { configFileOf } from '../config-file/find-config.js'
import type { ReadConfig } from '../config-file/load-config.js'

/** The configuration file that is meant, and what it holds. What reads it is loaded for that alone: it takes longer than most commands. */
export async function configOf(named: string | undefined): Promise<ReadConfig & { readonly file: string }> {
  const file = configFileOf(named)
  const { readConfig } = await import('../config-file/load-config.js')
  return { file, ...(await readConfig(file)) }
}
