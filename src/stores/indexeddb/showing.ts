import { type Claim, claimMs, type Shown, shownMs, watchedMs } from '../../core/ports/claims.js'
import type { Database, ShownState, Transaction } from './database.js'

/** Pieces read at once. */
const mostPieces = 100

/** The number under which it stands when an answer was shown and watched. */
const stateAt = -1

/** Answers that are shown to other tabs and workers while they arrive, by the tokens of their claims. */
export class Showing {
  readonly #database: Database

  constructor(database: Database) {
    this.#database = database
  }

  async show({ token }: Claim, from: number, pieces: readonly Uint8Array[]): Promise<boolean> {
    return this.#database.run(['shown'], 'readwrite', async (transaction) => {
      const [shown, now] = [transaction.objectStore('shown'), Date.now()]
      const state = (await shown.get([token, stateAt])) as ShownState | undefined
      if (!state || !isLately(state.watchedAt, now, watchedMs)) return false
      await shown.put({ ...state, shownAt: now }, [token, stateAt])
      for (const [i, piece] of pieces.entries()) await shown.put(piece, [token, from + i])
      return true
    })
  }

  async watch({ token }: Claim, from: number): Promise<Shown | undefined> {
    return this.#database.run(['shown'], 'readwrite', async (transaction) => {
      const [shown, now] = [transaction.objectStore('shown'), Date.now()]
      const state = (await shown.get([token, stateAt])) as ShownState | undefined
      if (!state) await this.#tidy(transaction, now)
      await shown.put({ ...state, watchedAt: now }, [token, stateAt])
      const range = IDBKeyRange.bound([token, from], [token, from + mostPieces - 1])
      const pieces = (await shown.getAll(range)) as Uint8Array[]
      const isAlive = isLately(state?.shownAt, now, claimMs)
      return pieces.length > 0 || isAlive ? { pieces, isAlive } : undefined
    })
  }

  /** Forgets what was shown and watched a while ago; for opening. */
  tidy(): Promise<void> {
    return this.#database.run(['shown'], 'readwrite', (transaction) => this.#tidy(transaction, Date.now()))
  }

  async #tidy(transaction: Transaction<'readwrite'>, now: number): Promise<void> {
    const shown = transaction.objectStore('shown')
    for (const key of await shown.getAllKeys()) {
      const [token, number] = key
      if (number !== stateAt) continue
      const { shownAt, watchedAt } = (await shown.get(key)) as ShownState
      if (!isLately(Math.max(shownAt ?? 0, watchedAt), now, shownMs))
        await shown.delete(IDBKeyRange.bound([token, stateAt], [token, Number.MAX_VALUE]))
    }
  }
}

/** Whether something was so little time ago; nothing of the time to come is, for it is of before the clock was set back. */
function isLately(at: number | undefined, now: number, ms: number): boolean {
  return at !== undefined && Math.abs(now - at) < ms
}
