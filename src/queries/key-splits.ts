import { isAnswer } from '../core/entries/selector.js'
import type { Store } from '../core/ports/store.js'
import { type KeySplit, KeySplits, partsOfKey, sketchOf } from '../core/traffic/key-splits.js'
import { allEntries } from './entries.js'

/** Entries of an endpoint that are looked at, at the most. */
const mostLookedAt = 500

/** What splits the keys of an endpoint without need, by what is stored of it. */
export async function storedSplits({ entries }: Pick<Store, 'entries'>, provider: string, endpoint: string): Promise<KeySplit[]> {
  const splits = new KeySplits()
  for await (const summary of allEntries(entries, { provider, endpoint })) {
    if (splits.size >= mostLookedAt) break
    const split = isAnswer(summary) ? partsOfKey(summary.key) : undefined
    if (!split || split.parts.length === 0) continue
    const entry = await entries.get(summary.key)
    if (entry) splits.add(split.base, split.parts, sketchOf(entry.body))
  }
  return splits.found()
}
