import type { StashConfig } from './config/stash-config.js'
import { OnDemand } from './core/on-demand.js'
import { isPlainObject } from './core/rules/object-kind.js'
import { ownCopy } from './core/rules/own-copy.js'
import type { Stash } from './stash.js'

/** What answers calls. */
export const stashCode = new OnDemand(() => import('./build-stash.js'))

/**
 * Opens a stash. Throws `ConfigError` with all faults of the configuration before anything is opened, and `StoreError` where the
 * store cannot be; where its code cannot be loaded, code `USAGE`. What answers calls is loaded meanwhile, so that a page need not wait for it to show something.
 */
export async function openStash(config: StashConfig = {}): Promise<Stash> {
  const { fetch } = globalThis // that of now: it may be replaced meanwhile, even by what calls this very stash
  const own = ownConfig(config)
  const { buildStash } = await stashCode.get()
  return buildStash(own, fetch)
}

/** A copy, in which stores, clocks and functions stay what they are. */
function ownConfig(config: StashConfig): StashConfig {
  if (typeof config !== 'object' || config === null || !isPlainObject(config)) return config // which is told when it is checked
  return {
    ...config,
    ...Object.fromEntries(copied.flatMap((name) => (Object.hasOwn(config, name) ? [[name, ownCopy(config[name])]] : []))),
  }
}

const copied = ['providers', 'sets', 'exchange', 'ledger'] as const
