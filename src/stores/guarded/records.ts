import type { Maybe } from '../../core/ports/maybe.js'
import type { SharedRecord, SharedRecords } from '../../core/ports/shared-records.js'
import type { Guard } from './guard.js'

export class GuardedRecords implements SharedRecords {
  readonly #records: SharedRecords
  readonly #guard: Guard

  constructor(records: SharedRecords, guard: Guard) {
    this.#records = records
    this.#guard = guard
  }

  update(name: string, now: number, change: (value: string | undefined) => SharedRecord | undefined): Maybe<void> {
    return this.#guard.write(() => this.#records.update(name, now, change))
  }

  read(name: string, now: number): Maybe<string | undefined> {
    return this.#guard.read(() => this.#records.read(name, now))
  }

  records(prefix: string, now: number): Maybe<ReadonlyMap<string, string>> {
    return this.#guard.read(() => this.#records.records(prefix, now))
  }

  sweep(now: number): Maybe<void> {
    return this.#guard.attemptIfOpen(() => this.#records.sweep(now), undefined)
  }
}
