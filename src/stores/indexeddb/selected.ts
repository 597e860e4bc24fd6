import type { Selection } from '../../core/ports/selection.js'
import { bytesOfKey, type KeptEntry, type Mode, type Transaction } from './database.js'

type Index = 'provider' | 'endpoint' | 'label'

/** What of the entries a selection means: a range of their keys, or of an index; both give them in the order of their keys. */
export function rangeOf(selection: Selection): { readonly index?: Index; readonly range: IDBKeyRange | null } {
  if ('all' in selection) return { range: null }
  if ('key' in selection) return { range: IDBKeyRange.only(bytesOfKey(selection.key)) }
  if ('under' in selection) return { range: between(selection.under, `${selection.under}!`) } // "!" comes right after the space
  if ('path' in selection) return { range: between(`${selection.path}?`, `${selection.path}@`) } // "@" comes right after the question mark
  if ('label' in selection) return { index: 'label', range: IDBKeyRange.only(selection.label) }
  const { provider, endpoint } = selection
  if (endpoint === undefined) return { index: 'provider', range: IDBKeyRange.only(provider) }
  return { index: 'endpoint', range: IDBKeyRange.only([provider, endpoint]) }
}

function between(from: string, to: string): IDBKeyRange {
  return IDBKeyRange.bound(bytesOfKey(from), bytesOfKey(to), false, true)
}

/** An entry that is gone through, in a place where it can be changed. */
export interface Visited<M extends Mode> {
  readonly entry: KeptEntry
  readonly update: M extends 'readwrite' ? (entry: KeptEntry) => Promise<unknown> : undefined
}

/** Entries of a selection in the order of their keys, from the first after a key on. */
export async function* selected<M extends Mode>(
  transaction: Transaction<M>,
  selection: Selection,
  after?: string,
): AsyncGenerator<Visited<M>> {
  const { index, range } = rangeOf(selection)
  const store = transaction.objectStore('entries')
  const start = after === undefined ? undefined : bytesOfKey(after)
  let cursor = index ? await store.index(index).openCursor(range) : await store.openCursor(range)
  if (cursor && start && indexedDB.cmp(cursor.primaryKey, start) < 0)
    cursor = index ? await cursor.continuePrimaryKey(cursor.key as never, start as never) : await cursor.continue(start as never)
  if (cursor && start && indexedDB.cmp(cursor.primaryKey, start) === 0) cursor = await cursor.continue()
  for (; cursor; cursor = await cursor.continue()) {
    const entry = cursor.value
    if ('under' in selection && entry.key !== selection.under && !entry.key.startsWith(`${selection.under} `)) continue
    const here = cursor as unknown as { update?: (entry: KeptEntry) => Promise<unknown> }
    yield { entry, update: ((changed: KeptEntry) => here.update?.(changed)) as Visited<M>['update'] }
  }
}
