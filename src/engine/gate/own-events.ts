/** An event of this process, numbered in the order of its events. */
export interface Own<E> {
  readonly number: number
  readonly event: E
}

/** How long an event that is recorded is remembered, for a store that loses it, milliseconds, and how many are at the most. */
const rememberedMs = 300_000
const mostRemembered = 1_000

/** Events kept for a store that takes none, at the most. */
const mostPending = 20_000

/** The events of this process: those not recorded yet, and those recorded lately, should the store lose them. */
export class OwnEvents<E> {
  #pending: Own<E>[] = []
  #recorded: (Own<E> & { readonly at: number })[] = []
  #latest = 0
  #latestRecorded = 0

  /** Numbers an event. */
  numbered(event: E): Own<E> {
    return { number: ++this.#latest, event }
  }

  /** Reserves numbers for so many events; returns the first. */
  reserve(count: number): number {
    this.#latest += count
    return this.#latest - count + 1
  }

  /** Those not recorded yet, in their order. */
  get pending(): readonly Own<E>[] {
    return this.#pending
  }

  /** Keeps an event that is not recorded. Returns false where there are too many: then only the last is kept. */
  keep(own: Own<E>): boolean {
    const isLatest = own.number > (this.#pending.at(-1)?.number ?? 0)
    this.#pending.push(own)
    if (!isLatest) this.#pending.sort((one, other) => one.number - other.number) // decided while others came up
    if (this.#pending.length <= mostPending) return true
    this.#pending = this.#pending.slice(-1)
    return false
  }

  /** Events were recorded, the latest last, at a time in ticks of the clock. */
  record(written: readonly Own<E>[], at: number): void {
    const last = written.at(-1)
    if (!last) return
    this.#pending = this.#pending.filter(({ number }) => number > last.number)
    for (const { number, event } of written) this.#recorded.push({ number, event, at })
    this.#latestRecorded = last.number
    if (this.#recorded.length > 2 * mostRemembered) this.#recorded = this.#recorded.slice(-mostRemembered)
  }

  /** Those that are not in a state whose latest event of this process has this number: that the store lost, and of the pending ones given. */
  missing(number: number, pending: readonly Own<E>[], now: number): readonly Own<E>[] {
    const isLost = (own: Own<E> & { at: number }) => own.number > number && now - own.at < rememberedMs
    const lost = number < this.#latestRecorded ? this.#recorded.filter(isLost) : []
    const rest = (pending[0]?.number ?? 0) > number ? pending : pending.filter((own) => own.number > number)
    return lost.length === 0 ? rest : [...lost, ...rest]
  }
}
