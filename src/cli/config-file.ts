import { configFileOf, type ReadConfig, readConfig } from '../config-file/load-config.js'

/** The configuration file that is meant, and what it holds. */
export async function configOf(named: string | undefined): Promise<ReadConfig & { readonly file: string }> {
  const file = configFileOf(named)
  return { file, ...(await readConfig(file)) }
}
