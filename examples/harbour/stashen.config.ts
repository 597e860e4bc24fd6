import type { StashConfig } from 'stashen'
import { providers } from './config.js'

/** The harbour office's configuration as a file that the command line loads. */
export default { providers } satisfies StashConfig
