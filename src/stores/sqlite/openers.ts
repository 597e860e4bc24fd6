import { randomUUID } from 'node:crypto'
import type { SqliteFile } from './sqlite-file.js'

/** How often a process says that it has the file open, and how long after it said so it is taken to have gone, milliseconds. */
const tellEveryMs = 60_000
const goneAfterMs = 200_000

/** Which stores have a file open, in this process or in others: those who know that there is no other need not tell each other anything. */
export class Openers {
  readonly #file: SqliteFile
  #id = ''
  #timer: NodeJS.Timeout | undefined
  /** Changes with every change of the file by another connection (sqlite.org/pragma.html#pragma_data_version). */
  #version: unknown
  #areNone = false
  /** How often others have removed entries. */
  #removals: unknown
  #toldAt = 0

  constructor(file: SqliteFile) {
    this.#file = file
  }

  opened(): void {
    this.#version = undefined
    this.#areNone = false
    if (this.#file.readOnly) return
    this.#id = randomUUID()
    this.#tell()
    this.#timer ??= setInterval(() => this.#tellAgain(), tellEveryMs).unref()
    this.#removals = this.#removed()
  }

  closing(): void {
    clearInterval(this.#timer)
    this.#timer = undefined
    if (this.#file.readOnly) return
    attempt(() => this.#file.statement('DELETE FROM opener WHERE id = ?').run(this.#id))
  }

  /** Whether no other has the file open. */
  areNone(): boolean {
    if (Date.now() - this.#toldAt > goneAfterMs) return false // others may have taken this process to be gone
    const version = this.#file.do(() => this.#file.list('PRAGMA data_version').get()?.[0])
    if (version === this.#version && version !== undefined) return this.#areNone
    this.#areNone = this.#file.do(() => this.#others()) === 0
    this.#version = version
    return this.#areNone
  }

  #others(): number {
    const found = this.#file
      .statement('SELECT count(*) AS others FROM opener WHERE id <> ? AND told_at > ?')
      .get(this.#id, Date.now() - goneAfterMs)
    return Number(found?.others)
  }

  /** Tells others that entries are removed or invalidated. Call in a transaction. */
  removed(): void {
    this.#file.statement('UPDATE store SET removals = removals + 1').run()
    if (this.#removals === this.#removed() - 1) this.#removals = this.#removed()
  }

  /** Whether no other has removed anything since the file was opened, or since this was asked. Ask in a transaction. */
  noneRemoved(): boolean {
    if (Date.now() - this.#toldAt > goneAfterMs) return false
    const removals = this.#removed()
    if (removals === this.#removals) return true
    this.#removals = removals
    return false
  }

  #removed(): number {
    return Number(this.#file.list('SELECT removals FROM store').get()?.[0])
  }

  #tellAgain(): void {
    attempt(() => this.#tell())
  }

  #tell(): void {
    const now = Date.now()
    if (now - this.#toldAt > goneAfterMs) this.#removals = undefined // others may have taken this one to be gone, and told nothing
    this.#file.inTransaction(() => {
      this.#file.statement('INSERT OR REPLACE INTO opener (id, told_at) VALUES (?, ?)').run(this.#id, now)
      this.#file.statement('DELETE FROM opener WHERE told_at < ?').run(now - goneAfterMs)
    })
    this.#toldAt = now
  }
}

function attempt(work: () => unknown): void {
  try {
    work()
  } catch {
    // it is taken to be gone then
  }
}
