import { loadAll } from './core/on-demand.js'
import { stashCode } from './open-stash.js'

/**
 * Loads all code that a stash otherwise loads when it is first asked for: reports, status, operations, calendars. For tests and simulations on a clock
 * that does not stand still while files are read, and for pages that want to have it all before they go offline.
 */
export async function loadEverything(): Promise<void> {
  await stashCode.get() // which knows what the engine loads
  await loadAll()
}
