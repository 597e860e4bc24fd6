import type { Entry } from '../../core/ports/entry-store.js'
import { isPacked } from '../packed/packed-head.js'

/** What is wrong with what a store gave for a key, if it is no entry of that key; undefined where it is one. */
export function soundness(key: string, entry: Entry): string | undefined {
  if (entry.key !== key) return 'the store gave an entry of another key'
  const { storedAt, bornAt, freshUntil, refreshableUntil, usableUntil, keepUntil } = entry
  const sum = storedAt + bornAt + freshUntil + refreshableUntil + usableUntil + keepUntil
  if (typeof sum !== 'number' || Number.isNaN(sum)) return 'the entry has times that are none'
  if (!(entry.body instanceof Uint8Array) || typeof entry.head !== 'string') return 'the entry has no body or no head'
  if (isPacked(entry.head)) return 'the entry is compressed or encrypted: open its store with packedStore, in every process'
  const labels: unknown = entry.labels
  if (labels !== undefined && !(Array.isArray(labels) && labels.every((label) => typeof label === 'string')))
    return 'the entry has labels that are none'
  return undefined
}
