import type { SharedRecord, SharedRecords } from '../../core/ports/shared-records.js'

export class MemoryRecords implements SharedRecords {
  readonly #records = new Map<string, SharedRecord>()

  update(name: string, now: number, change: (value: string | undefined) => SharedRecord | undefined): void {
    const kept = this.#records.get(name)
    const next = change(kept && kept.keepUntil > now ? kept.value : undefined)
    if (next) this.#records.set(name, next)
  }

  records(prefix: string, now: number): ReadonlyMap<string, string> {
    const kept = [...this.#records].filter(([name, { keepUntil }]) => name.startsWith(prefix) && keepUntil > now)
    return new Map(kept.map(([name, { value }]) => [name, value]))
  }

  sweep(now: number): void {
    for (const [name, { keepUntil }] of this.#records) if (keepUntil <= now) this.#records.delete(name)
  }
}
