import type { SharedRecord, SharedRecords } from '../../core/ports/shared-records.js'
import type { Database } from './database.js'

export class IndexedDbRecords implements SharedRecords {
  readonly #database: Database

  constructor(database: Database) {
    this.#database = database
  }

  update(name: string, now: number, change: (value: string | undefined) => SharedRecord | undefined): Promise<void> {
    return this.#database.run(['records'], 'readwrite', async (transaction) => {
      const records = transaction.objectStore('records')
      const next = change(unexpired(await records.get(name), now))
      if (next) await records.put({ value: next.value, keepUntil: next.keepUntil }, name)
    })
  }

  read(name: string, now: number): Promise<string | undefined> {
    return this.#database.run(['records'], 'readonly', async (transaction) =>
      unexpired(await transaction.objectStore('records').get(name), now),
    )
  }

  records(prefix: string, now: number): Promise<ReadonlyMap<string, string>> {
    return this.#database.run(['records'], 'readonly', async (transaction) => {
      const records = transaction.objectStore('records')
      const range = IDBKeyRange.lowerBound(prefix)
      const found = new Map<string, string>()
      for (let cursor = await records.openCursor(range); cursor?.key.startsWith(prefix); cursor = await cursor.continue()) {
        const value = unexpired(cursor.value, now)
        if (value !== undefined) found.set(cursor.key, value)
      }
      return found
    })
  }

  sweep(now: number): Promise<void> {
    return this.#database.run(['records'], 'readwrite', async (transaction) => {
      for (let cursor = await transaction.objectStore('records').openCursor(); cursor; cursor = await cursor.continue())
        if (cursor.value.keepUntil <= now) await cursor.delete()
    })
  }
}

function unexpired(record: SharedRecord | undefined, now: number): string | undefined {
  return record && record.keepUntil > now ? record.value : undefined
}
