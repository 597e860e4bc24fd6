import type { SharedRecord, SharedRecords } from '../../core/ports/shared-records.js'
import type { SqliteFile } from './sqlite-file.js'

export class SqliteRecords implements SharedRecords {
  readonly #file: SqliteFile

  constructor(file: SqliteFile) {
    this.#file = file
  }

  update(name: string, now: number, change: (value: string | undefined) => SharedRecord | undefined): void {
    this.#file.inTransaction(() => {
      const next = change(this.#read(name, now))
      if (!next) return
      this.#file
        .statement('INSERT OR REPLACE INTO shared_record (name, value, keep_until) VALUES (?, ?, ?)')
        .run(name, next.value, next.keepUntil)
    })
  }

  read(name: string, now: number): string | undefined {
    return this.#file.do(() => this.#read(name, now))
  }

  #read(name: string, now: number): string | undefined {
    const kept = this.#file.statement('SELECT value FROM shared_record WHERE name = ? AND keep_until > ?').get(name, now)
    return kept && String(kept.value)
  }

  records(prefix: string, now: number): ReadonlyMap<string, string> {
    const rows = this.#file.do(() =>
      this.#file
        .statement('SELECT name, value FROM shared_record WHERE name >= ? AND substr(name, 1, length(?)) = ? AND keep_until > ?')
        .all(prefix, prefix, prefix, now),
    )
    return new Map(rows.map(({ name, value }) => [String(name), String(value)]))
  }

  sweep(now: number): void {
    this.#file.do(() => this.#file.statement('DELETE FROM shared_record WHERE keep_until <= ?').run(now))
  }
}
