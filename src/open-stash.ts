import type { StashConfig } from './config/stash-config.js'
import { OnDemand } from './core/on-demand.js'
import type { Stash } from './stash.js'

/** What answers calls. */
export const stashCode = new OnDemand(() => import('./build-stash.js'))

/**
 * Opens a stash. Throws `ConfigError` with all faults of the configuration before anything is opened, and `StoreError` where the
 * store cannot be; where its code cannot be loaded, code `USAGE`. What answers calls is loaded meanwhile, so that a page need not wait for it to show something.
 */
export async function openStash(config: StashConfig = {}): Promise<Stash> {
  const { fetch } = globalThis // that of now: it may be replaced meanwhile, even by what calls this very stash
  const { buildStash } = await stashCode.get()
  return buildStash(config, fetch)
}
