import type { Clock } from '../core/ports/clock.js'
import type { Store } from '../core/ports/store.js'
import type { StoreStatus } from '../core/ports/store-status.js'
import { statusOfProviders } from '../engine/gate/provider-records.js'
import type { StashStatus } from '../stash.js'
import { sizesByEndpoint } from './entries.js'

const nothingKnown = { endpoints: null, on: null, writable: null, answersInMs: null, clockAheadMs: null, drops: null }

/** What a store is on, how long it takes to say so, and how far its clock is from this machine's: to about half of that. */
async function inspected(store: Store): Promise<Omit<StoreStatus, 'trouble' | 'entries' | 'bytes'>> {
  const [asked, began] = [Date.now(), performance.now()]
  const facts = await store.inspect?.()
  if (!facts) return nothingKnown
  const answersInMs = performance.now() - began
  const clockAheadMs = facts.now === undefined ? null : Math.round(facts.now - asked - answersInMs / 2)
  return { endpoints: null, on: facts.on, writable: facts.isWritable, answersInMs, clockAheadMs, drops: facts.drops ?? null }
}

interface Asked {
  /** The time by the store, where that is another: providers stand as they do then. */
  readonly byStore?: number | undefined
  readonly trouble?: string | undefined
  /** Whether it is told what is stored of each endpoint, for which all of it is gone through. */
  readonly endpoints?: boolean
  readonly clock?: Pick<Clock, 'later' | 'ticks'>
  /** Told how many entries were gone through, and of how many. */
  readonly onProgress?: ((done: number, of: number) => void) | undefined
}

/** How things stand by what a store knows; `trouble` is what is known to be wrong with it. */
export async function readStatus(
  store: Store,
  now: number,
  { byStore = now, trouble, endpoints: isAsked = false, clock, onProgress }: Asked = {},
): Promise<StashStatus> {
  const at = new Date(now)
  try {
    const { entries, bytes } = await store.entries.size()
    const known = await inspected(store)
    const endpoints = isAsked && clock ? await sizesByEndpoint(store, clock, (done) => onProgress?.(done, entries)) : null
    return {
      at,
      store: { trouble: trouble ?? null, entries, bytes, ...known, endpoints },
      providers: await statusOfProviders(store.records, byStore),
    }
  } catch (error) {
    const what = trouble ?? (error instanceof Error ? error.message : String(error))
    return { at, store: { trouble: what, entries: null, bytes: null, ...nothingKnown }, providers: [] }
  }
}
