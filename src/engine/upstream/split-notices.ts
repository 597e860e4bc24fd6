import type { Entry } from '../../core/ports/entry-store.js'
import { KeySplits, partsOfKey, sketchOf, splitAdvice } from '../../core/traffic/key-splits.js'

/** Stored answers of an endpoint that are looked at, and after which numbers of them something may be said. */
const mostLookedAt = 200
const telling = [20, 50, 100, mostLookedAt]

/** Endpoints that are looked at, at the most. */
const mostEndpoints = 100

/** Longer keys are not looked at. */
const longestKey = 2_000

/** Says, once each, which parts of requests split keys without need. */
export class SplitNotices {
  readonly #warn: (message: string) => void
  /** Undefined once an endpoint has been looked at for long enough. */
  readonly #splits = new Map<string, KeySplits | undefined>()
  readonly #told = new Set<string>()

  constructor(warn: (message: string) => void) {
    this.#warn = warn
  }

  stored({ provider, endpoint, key, body }: Pick<Entry, 'provider' | 'endpoint' | 'key' | 'body'>): void {
    const place = `${provider}.${endpoint}`
    if (this.#splits.has(place) ? this.#splits.get(place) === undefined : this.#splits.size >= mostEndpoints) return
    const split = key.length < longestKey ? partsOfKey(key) : undefined
    if (!split || split.parts.length === 0) return
    const splits = this.#splits.get(place) ?? new KeySplits()
    splits.add(split.base, split.parts, sketchOf(body))
    this.#splits.set(place, splits.size < mostLookedAt ? splits : undefined)
    if (!telling.includes(splits.size)) return
    for (const found of splits.found()) {
      const advice = splitAdvice(place, found)
      if (this.#told.has(`${place} ${found.name}`)) continue
      this.#told.add(`${place} ${found.name}`)
      this.#warn(advice)
    }
  }
}
