import { ageMs } from '../decide/decide.js'
import type { Layer } from '../decide/layer.js'
import { isPriced, type Money, priceTimes } from '../money/money.js'
import type { EntrySummary } from '../ports/entry-store.js'
import { type EntryState, stateOf, statusOf } from './entry-state.js'

/** A stored answer, without its body. */
export interface StoredEntry {
  readonly key: string
  readonly provider: string
  readonly endpoint: string
  /** Null for the value of an operation. */
  readonly status: number | null
  /** What it is labelled with. */
  readonly labels: readonly string[]
  /** Length of its body. */
  readonly bytes: number
  readonly state: EntryState
  readonly storedAt: Date
  /** Since it was made or last confirmed (RFC 9111 section 4.2.3), milliseconds. */
  readonly ageMs: number
  readonly freshUntil: Date
  /** How long it is fresh still, milliseconds; 0 where it is not. */
  readonly freshForMs: number
  /** Until when it may be given out where the upstream fails. */
  readonly usableUntil: Date
  /** Until when it is worth keeping. */
  readonly keepUntil: Date
  /** The nearest layer that can give it now; null where the store has no layers. */
  readonly layer: Layer | null
  /** How often it was given as an answer since it was stored, at the least, and when last; null where the store does not count it, or never was. */
  readonly uses: number | null
  readonly lastUsedAt: Date | null
  /** What a call for it costs, and what was saved by those uses that took the place of one; null where no price is known, or uses are not. */
  readonly price: Money | null
  readonly saved: Money | null
}

/** How an entry stands at `now`, by the rule that it was stored under. */
export function storedEntry(entry: EntrySummary, now: number): StoredEntry {
  const { key, provider, endpoint, head, labels = [], bytes, storedAt, freshUntil, usableUntil, keepUntil, layer = null } = entry
  const state = stateOf(entry, now)
  const price = isPriced(entry.price) ? entry.price : null // a store may hold anything
  const usage = entry.usage && Object.values(entry.usage).every(Number.isSafeInteger) ? entry.usage : undefined
  return {
    ...{ key, provider, endpoint, status: statusOf(head), labels, bytes, state },
    ...{ storedAt: new Date(storedAt), ageMs: ageMs(entry, now), freshUntil: new Date(freshUntil) },
    freshForMs: state === 'fresh' ? freshUntil - now : 0,
    ...{ usableUntil: new Date(usableUntil), keepUntil: new Date(keepUntil), layer, price },
    ...{ uses: usage?.times ?? null, lastUsedAt: usage ? new Date(usage.lastAt) : null },
    saved: price && usage ? priceTimes(price, usage.saved) : null,
  }
}
