import { type Claim, claimMs, type Shown, shownMs, watchedMs } from '../../core/ports/claims.js'
import type { SqliteFile } from './sqlite-file.js'

/** Pieces read at once. */
const mostPieces = 100

/** Answers that are shown to other processes while they arrive, by the tokens of their claims. */
export class Showing {
  readonly #file: SqliteFile

  constructor(file: SqliteFile) {
    this.#file = file
  }

  show({ token }: Claim, from: number, pieces: readonly Uint8Array[]): boolean {
    const now = Date.now()
    const found = this.#file.do(() => this.#find(token))
    if (!isLately(found?.watched_at, now, watchedMs)) return false
    this.#file.inTransaction(() => {
      this.#file.statement('UPDATE showing SET shown_at = ? WHERE token = ?').run(now, token)
      const insert = this.#file.statement('INSERT OR IGNORE INTO shown_piece (token, number, piece) VALUES (?, ?, ?)')
      for (const [i, piece] of pieces.entries()) insert.run(token, from + i, piece)
    })
    return true
  }

  watch({ token }: Claim, from: number): Shown | undefined {
    const now = Date.now()
    const found = this.#file.do(() => this.#find(token))
    if (!isLately(found?.watched_at, now, watchedMs / 3)) this.#file.inTransaction(() => this.#watched(token, now))
    const isAlive = isLately(found?.shown_at, now, claimMs)
    const rows = this.#file.do(() =>
      this.#file
        .statement('SELECT piece FROM shown_piece WHERE token = ? AND number >= ? ORDER BY number LIMIT ?')
        .all(token, from, mostPieces),
    )
    if (rows.length === 0 && !isAlive) return undefined
    return { pieces: rows.map(({ piece }) => new Uint8Array(piece as ArrayBuffer | Uint8Array)), isAlive }
  }

  #find(token: string) {
    return this.#file.statement('SELECT shown_at, watched_at FROM showing WHERE token = ?').get(token)
  }

  #watched(token: string, now: number): void {
    this.tidy(now)
    this.#file
      .statement('INSERT INTO showing (token, watched_at) VALUES (?, ?) ON CONFLICT (token) DO UPDATE SET watched_at = excluded.watched_at')
      .run(token, now)
  }

  /** Forgets what nobody watches any more, or was shown a while ago. Call in a transaction. */
  tidy(now: number): void {
    const old = 'SELECT token FROM showing WHERE max(watched_at, coalesce(shown_at, 0)) NOT BETWEEN ?1 AND ?2'
    const within = [now - shownMs, now + shownMs]
    this.#file.statement(`DELETE FROM shown_piece WHERE token IN (${old})`).run(...within)
    this.#file.statement(`DELETE FROM showing WHERE token IN (${old})`).run(...within)
  }
}

/** Whether something was so little time ago; nothing of the time to come is, for it is of before the clock was set back. */
function isLately(at: unknown, now: number, ms: number): boolean {
  return typeof at === 'number' && Math.abs(now - at) < ms
}
