import type { Store } from '../core/ports/store.js'
import { statusOfProviders } from '../engine/gate/provider-records.js'
import type { StashStatus } from '../stash.js'

/** How things stand by what a store knows; `trouble` is what is known to be wrong with it. */
export async function readStatus(store: Store, now: number, trouble?: string): Promise<StashStatus> {
  const at = new Date(now)
  try {
    const { entries, bytes } = await store.entries.size()
    return { at, store: { trouble: trouble ?? null, entries, bytes }, providers: await statusOfProviders(store.records, now) }
  } catch (error) {
    const what = trouble ?? (error instanceof Error ? error.message : String(error))
    return { at, store: { trouble: what, entries: null, bytes: null }, providers: [] }
  }
}
