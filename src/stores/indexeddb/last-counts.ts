import type { LedgerRow } from '../../core/ledger/ledger-row.js'
import type { LedgerBatch, LedgerStore } from '../../core/ports/ledger-store.js'

/** Of `localStorage`, which a worker has not. */
interface Kept {
  readonly length: number
  key(index: number): string | null
  getItem(key: string): string | null
  setItem(key: string, value: string): void
  removeItem(key: string): void
}

/** Undefined where there is none, or a page may not use it. */
function kept(): Kept | undefined {
  try {
    return (globalThis as { localStorage?: Kept }).localStorage
  } catch {
    return undefined
  }
}

/** Counts that a page leaves behind: written at once, where no transaction would end any more, and added to the ledger by whichever page opens the store next. */
export class LastCounts {
  readonly #prefix: string

  constructor(name: string) {
    this.#prefix = `${name} last counts `
  }

  readonly keep = (rows: readonly LedgerRow[], batch: LedgerBatch): void => {
    kept()?.setItem(`${this.#prefix}${JSON.stringify([batch.writer, batch.number])}`, JSON.stringify(rows))
  }

  /** Adds what was left behind, each writer's in its order. */
  async addTo(ledger: LedgerStore): Promise<void> {
    const there = kept()
    if (!there) return
    const left = keysOf(there)
      .filter((key) => key.startsWith(this.#prefix))
      .flatMap((key) => this.#readOf(there, key) ?? [])
      .sort((a, b) => a.batch.number - b.batch.number)
    for (const { key, rows, batch } of left) {
      await ledger.add(rows, batch)
      there.removeItem(key)
    }
  }

  /** What cannot be read is dropped. */
  #readOf(there: Kept, key: string): { key: string; rows: LedgerRow[]; batch: LedgerBatch } | undefined {
    try {
      const [writer, number] = JSON.parse(key.slice(this.#prefix.length)) as [string, number]
      const rows = JSON.parse(there.getItem(key) ?? '') as LedgerRow[]
      if (Array.isArray(rows) && typeof writer === 'string' && Number.isSafeInteger(number)) return { key, rows, batch: { writer, number } }
    } catch {
      // somebody else wrote there
    }
    there.removeItem(key)
    return undefined
  }
}

function keysOf(there: Kept): string[] {
  return Array.from({ length: there.length }, (_, i) => there.key(i) ?? '')
}
