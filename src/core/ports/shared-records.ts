import type { Maybe } from './maybe.js'

/** A small record that several processes change. */
export interface SharedRecord {
  /** JSON. */
  readonly value: string
  /** When it runs out, milliseconds since 1970-01-01T00:00Z. */
  readonly keepUntil: number
}

/** Records that all who share a store see and change: limits, quotas, budgets and leases. Life cycle and errors as for `EntryStore`. */
export interface SharedRecords {
  /**
   * Changes the record of a name in one step, which no other process can come between. `change` gets its value, if there is one that has
   * not run out at `now`, and returns what takes its place, or undefined to leave it. It may be called again, where another process came
   * first; it is pure but for what it remembers of its last call.
   */
  update(name: string, now: number, change: (value: string | undefined) => SharedRecord | undefined): Maybe<void>
  /** The value of the record of a name, if there is one that has not run out at `now`. */
  read(name: string, now: number): Maybe<string | undefined>
  /** The values of records whose names begin with `prefix`, by name, without those that have run out at `now`. */
  records(prefix: string, now: number): Maybe<ReadonlyMap<string, string>>
  /** Drops every record that has run out at `now`. */
  sweep(now: number): Maybe<void>
}
