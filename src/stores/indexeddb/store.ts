import { UsageError } from '../../core/errors/setup-errors.js'
import { shown } from '../../core/errors/shown.js'
import type { Opening, Store } from '../../core/ports/store.js'
import { checkRoom } from '../room-options.js'
import { Changes } from './changes.js'
import { IndexedDbClaims } from './claims.js'
import { Database } from './database.js'
import { IndexedDbEntries } from './entries.js'
import { LastCounts } from './last-counts.js'
import { IndexedDbLedger } from './ledger.js'
import { Presence } from './presence.js'
import { IndexedDbRecords } from './records.js'

export interface IndexedDbStoreOptions {
  /** Name of the database, which is the origin's. Default `"stashen"`. */
  readonly name?: string
  /** The most that stored answers take, bytes. Default 64 MiB; where the browser gives less, as much as that. */
  readonly maxBytes?: number
}

const usualBytes = 64 * 1024 * 1024

/**
 * A store in the browser (W3C Indexed Database API), which all tabs and workers of an origin share: what one has fetched, the others have, also after a
 * reload without network. One upstream call of all of them, where the page is a secure context (Web Locks).
 *
 * ```ts
 * const stash = await openStash({ store: layeredStore({ far: indexedDbStore() }), providers })
 * ```
 */
export function indexedDbStore({ name = 'stashen', maxBytes = usualBytes }: IndexedDbStoreOptions = {}): Store {
  if (typeof name !== 'string' || name === '') throw new UsageError(`"name" of indexedDbStore is ${shown(name)}: give a text`)
  checkRoom({ maxBytes }, 'indexedDbStore')
  const database = new Database(name)
  const changes = new Changes(`${name} changes`)
  const presence = Presence.isKnown ? new Presence(name) : undefined
  const claims = presence && new IndexedDbClaims(database, presence)
  const entries = new IndexedDbEntries(database, maxBytes, changes, claims)
  const lastCounts = new LastCounts(name)
  const ledger = new IndexedDbLedger(database, lastCounts.keep)
  return {
    ...{ entries, records: new IndexedDbRecords(database), ledger },
    async open({ warn }: Opening) {
      await database.open(() =>
        warn(`the IndexedDB database "${name}" waits for tabs that have an older version of the page: close or reload them`),
      )
      await presence?.come()
      changes.open()
      await claims?.tidy()
      await entries.recount()
      await lastCounts.addTo(ledger)
    },
    onChange: (changed) => changes.listen(changed),
    inspect: async () => ({ on: 'IndexedDB', isWritable: true }),
    async close() {
      claims?.closing()
      await entries.settle()
      changes.close()
      presence?.leave()
      await database.close()
    },
  }
}
