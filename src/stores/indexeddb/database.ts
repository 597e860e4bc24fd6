import { type DBSchema, type IDBPDatabase, type IDBPObjectStore, openDB, type StoreNames } from 'idb'
import { StoreError } from '../../core/errors/setup-errors.js'
import type { BillingFacts, LedgerRow } from '../../core/ledger/ledger-row.js'
import type { ClaimEnd, Claiming } from '../../core/ports/claims.js'
import type { EntrySummary, StoreSize } from '../../core/ports/entry-store.js'
import type { SharedRecord } from '../../core/ports/shared-records.js'

/** How often a work is done again for which there was no room, at the most. */
const mostTries = 6

/** How long the browser has to give room back that was made, milliseconds; longer each time. */
const firstPauseMs = 10

/** Raised whenever the object stores change. */
const version = 2

/** An entry without its body. `used`: the number of its latest use. */
export type KeptEntry = EntrySummary & { readonly used: number }

/** Who has a claim; times are milliseconds since 1970-01-01T00:00Z. */
export interface KeptClaim extends Omit<Claiming, 'storedAt' | 'over'> {
  readonly token: string
  readonly extendedAt: number
  readonly ended?: ClaimEnd
  readonly endedAt?: number
}

/** When an answer was shown to others while it arrived, and when somebody watched that, milliseconds since 1970-01-01T00:00Z. */
export interface ShownState {
  readonly shownAt?: number
  readonly watchedAt: number
}

/** What there is in all; `uses` counts uses of entries. */
export interface Totals extends StoreSize {
  readonly uses: number
}

/** Entries and bodies have the bytes of their key in UTF-8 as key, in whose order they are listed. */
export interface Schema extends DBSchema {
  entries: {
    key: IDBValidKey
    value: KeptEntry
    indexes: {
      provider: string
      endpoint: [string, string]
      label: string
      keepUntil: number
      used: number
      endpointUsed: [string, string, number]
    }
  }
  bodies: { key: IDBValidKey; value: Uint8Array }
  totals: { key: 'all'; value: Totals }
  evicted: { key: IDBValidKey; value: { readonly freshUntil: number }; indexes: { freshUntil: number } }
  claims: { key: string; value: KeptClaim }
  /** By the token of a claim and the number of a piece, or -1. */
  shown: { key: [token: string, number: number]; value: ShownState | Uint8Array }
  records: { key: string; value: SharedRecord }
  rows: { key: string; value: LedgerRow; indexes: { bucket: number; account: [string, string, string] } }
  facts: { key: number; value: BillingFacts }
  writers: { key: string; value: number }
}

type Names = StoreNames<Schema>
export type Mode = 'readonly' | 'readwrite'

/** A transaction; it has the object stores that it was begun with. */
export interface Transaction<M extends Mode> {
  objectStore<N extends Names>(name: N): IDBPObjectStore<Schema, Names[], N, M>
}

/** A database of the browser, opened again where the browser closed it. */
export class Database {
  readonly #name: string
  #opened: Promise<IDBPDatabase<Schema>> | undefined
  #isOpen = false
  #makeRoom: (() => Promise<boolean>) | undefined

  constructor(name: string) {
    this.#name = name
  }

  /** `waits` is called where another tab keeps it from being brought up to date. Throws `StoreError`. */
  async open(waits: () => void): Promise<void> {
    if (globalThis.indexedDB === undefined)
      throw new StoreError(`there is no IndexedDB here: indexedDbStore is for browsers; elsewhere use sqliteStore or memoryStore`)
    this.#isOpen = true
    try {
      await this.#database(waits)
    } catch (cause) {
      this.#isOpen = false
      throw this.#openingError(cause)
    }
  }

  #database(waits = () => {}): Promise<IDBPDatabase<Schema>> {
    if (!this.#isOpen) return Promise.reject(new Error(`the database "${this.#name}" is closed`))
    const forget = () => {
      if (this.#opened === opened) this.#opened = undefined
    }
    this.#opened ??= openDB<Schema>(this.#name, version, {
      upgrade,
      blocked: waits,
      blocking: (_now, _wanted, event) => {
        forget()
        ;(event.target as IDBDatabase).close() // so that a newer version can open it, or it can be deleted
      },
      terminated: forget,
    })
    const opened = this.#opened
    opened.catch(forget)
    return opened
  }

  #openingError(cause: unknown): StoreError {
    const { name, message } = cause as Error
    const what =
      name === 'VersionError'
        ? 'it was made by a newer version of Stashen: reload the page, so that it has that'
        : name === 'SecurityError' || name === 'InvalidStateError'
          ? `the browser does not allow it here, as in some private windows and frames: use memoryStore (${message})`
          : message
    return new StoreError(`the IndexedDB database "${this.#name}" cannot be opened: ${what}`, { cause })
  }

  /**
   * Does all of a work in one transaction, or nothing of it. It may wait for nothing else than what the transaction gives. It is done again where the browser
   * gave no room, and some could be made.
   */
  async run<T, M extends Mode>(names: readonly Names[], mode: M, work: (transaction: Transaction<M>) => Promise<T>): Promise<T> {
    for (let tries = 1; ; tries++) {
      try {
        return await this.runOnce(names, mode, work)
      } catch (error) {
        if ((error as Error).name !== 'QuotaExceededError' || tries >= mostTries || !(await this.#makeRoom?.())) throw error
        await new Promise((resolve) => setTimeout(resolve, firstPauseMs * 2 ** tries))
      }
    }
  }

  /** What makes room where the browser gives no more; it returns whether there is some. */
  whenFull(makeRoom: () => Promise<boolean>): void {
    this.#makeRoom = makeRoom
  }

  async runOnce<T, M extends Mode>(names: readonly Names[], mode: M, work: (transaction: Transaction<M>) => Promise<T>): Promise<T> {
    const transaction = await this.#begin(names, mode)
    const done = transaction.done
    done.catch(() => {}) // said below
    try {
      const result = await work(transaction)
      await done
      return result
    } catch (error) {
      try {
        transaction.abort()
      } catch {
        // it is over
      }
      throw transaction.error ?? error
    }
  }

  async #begin<M extends Mode>(names: readonly Names[], mode: M) {
    const begin = async () => (await this.#database()).transaction([...names], mode)
    try {
      return await begin()
    } catch (error) {
      if ((error as Error).name !== 'InvalidStateError' || !this.#isOpen) throw error
      this.#opened = undefined // it was closed a moment ago
      return begin()
    }
  }

  async close(): Promise<void> {
    const opened = this.#opened
    this.#isOpen = false
    this.#opened = undefined
    ;(await opened?.catch(() => undefined))?.close()
  }
}

function upgrade(db: IDBPDatabase<Schema>, was: number): void {
  db.createObjectStore('shown') // of version 2
  if (was > 0) return
  const entries = db.createObjectStore('entries')
  entries.createIndex('provider', 'provider')
  entries.createIndex('endpoint', ['provider', 'endpoint'])
  entries.createIndex('label', 'labels', { multiEntry: true })
  entries.createIndex('keepUntil', 'keepUntil')
  entries.createIndex('used', 'used')
  entries.createIndex('endpointUsed', ['provider', 'endpoint', 'used'])
  for (const name of ['bodies', 'totals', 'claims', 'records', 'writers'] as const) db.createObjectStore(name)
  db.createObjectStore('evicted').createIndex('freshUntil', 'freshUntil')
  const rows = db.createObjectStore('rows')
  rows.createIndex('bucket', 'bucket')
  rows.createIndex('account', ['mode', 'provider', 'endpoint'])
  db.createObjectStore('facts', { autoIncrement: true })
}

const encoder = new TextEncoder()

/** The key under which an entry is kept. */
export function bytesOfKey(key: string): Uint8Array<ArrayBuffer> {
  return encoder.encode(key)
}
