import type { Selection } from '../../core/ports/selection.js'
import type { Opening, Store } from '../../core/ports/store.js'
import { PackedEntries } from './entries.js'
import { checkedPacking, type PackedStoreOptions } from './options.js'
import { sealedBy } from './sealing.js'
import { Sealings } from './sealings.js'

/** Entries looked at when a store opens, to say so where none of them can be read. */
const mostLookedAt = 20

/**
 * Another store, in which bodies are compressed, or answers encrypted, or both: records and ledger are as they are there. Anything that is read is as it was put, whatever it
 * was stored by; what was encrypted by none of the keys is not there.
 *
 * ```ts
 * packedStore({ store: sqliteStore('./stashen.db'), compress: true, encrypt: { keys: [{ id: '2026-11', secret }] } })
 * ```
 */
export function packedStore(options: PackedStoreOptions): Store {
  const packing = checkedPacking(options)
  const { store } = options
  const sealings = new Sealings(packing.secrets)
  const entries = new PackedEntries(store.entries, packing, sealings)
  return {
    ...{ entries, records: store.records, ledger: store.ledger, memoryBytes: store.memoryBytes },
    async open(opening: Opening) {
      await store.open(opening)
      await warnOfOthers(store, sealings, opening.warn)
    },
    ...(store.onChange && {
      onChange: (changed: (selection: Selection) => void) =>
        (store as Required<Store>).onChange((selection) => {
          const its = sealings.isNone ? selection : selectionOf(selection, sealings)
          if (its) changed(its)
        }),
    }),
    ...(store.time && { time: () => (store as Required<Store>).time() }),
    inspect: () => store.inspect?.(),
    close: () => store.close(),
  }
}

/** Says so where answers are stored and none of those looked at can be read: most likely a key is missing. */
async function warnOfOthers({ entries }: Store, sealings: Sealings, warn: Opening['warn']): Promise<void> {
  const page = await entries.list({ all: true }, { most: mostLookedAt })
  const others = page.entries.map(({ head }) => sealedBy(head)).filter((id) => id !== undefined && sealings.of(id) === undefined)
  if (others.length === 0 || others.length < page.entries.length) return
  const ids = [...new Set(others)].map((id) => `"${id}"`).join(', ')
  warn(
    `what is stored is encrypted with the key ${ids}, which was not given, so that it counts as absent: give packedStore that key too, or the commands STASHEN_ENCRYPTION_KEYS`,
  )
}

/** What changed, as those know it who know no digests; undefined of a key that nobody here has asked for lately. More than a key may be anything. */
function selectionOf(selection: Selection, sealings: Sealings): Selection | undefined {
  if (!('key' in selection)) return 'provider' in selection ? selection : { all: true }
  const key = sealings.keyOf(selection.key)
  return key === undefined ? undefined : { key }
}
