import type { SharedRecord, SharedRecords } from '../../core/ports/shared-records.js'

export class MemoryRecords implements SharedRecords {
  readonly #records = new Map<string, SharedRecord>()

  update(name: string, now: number, change: (value: string | undefined) => SharedRecord | undefined): void {
    const next = change(this.read(name, now))
    if (next) this.#records.set(name, next)
  }

  read(name: string, now: number): string | undefined {
    const kept = this.#records.get(name)
    return kept && kept.keepUntil > now ? kept.value : undefined
  }

  records(prefix: string, now: number): ReadonlyMap<string, string> {
    const kept = [...this.#records].filter(([name, { keepUntil }]) => name.startsWith(prefix) && keepUntil > now)
    return new Map(kept.map(([name, { value }]) => [name, value]))
  }

  sweep(now: number): void {
    for (const [name, { keepUntil }] of this.#records) if (keepUntil <= now) this.#records.delete(name)
  }
}
