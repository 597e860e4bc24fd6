import type { Clock } from '../../core/ports/clock.js'
import type { Maybe } from '../../core/ports/maybe.js'
import type { SharedRecords } from '../../core/ports/shared-records.js'

export interface SharedStateParts<S, E> {
  readonly records: Pick<SharedRecords, 'update'>
  readonly clock: Clock
  /** The name of its record. */
  readonly name: string
  /** What is known where nothing is recorded. */
  readonly initial: S
  /** Never throws: what is no state counts as nothing known. */
  readonly parse: (text: string) => S
  readonly reduce: (state: S, event: E) => S
  /** How long the record is kept after its last change, milliseconds. */
  readonly keepForMs: number
  /** Called with what an event of this process changed, once an event. */
  readonly changed: (before: S, after: S, event: E) => void
}

/** What is to be decided by the state, in one step with the event that comes of it. */
type Decide<S, E, T> = (state: S) => { readonly result: T; readonly event?: E | undefined }

interface Waiting<S, E> {
  readonly decide: Decide<S, E, unknown>
  readonly settle: (result: unknown) => void
  readonly fail: (error: unknown) => void
}

/** How long an event that nobody waits for may wait to be written, milliseconds. */
const writeWithinMs = 50

/** Events kept for a store that takes none, at the most; with more, what this process knows takes the place of what is recorded. */
const mostPending = 20_000

/**
 * State that several processes change through events and one reducer. What is decided and what happened meanwhile is written together, one
 * write at a time; while the store fails this process goes on by what it knows, and its events are applied once the store is back.
 */
export class SharedState<S, E> {
  readonly #parts: SharedStateParts<S, E>
  #known: S
  /** Events that are not written yet. */
  #pending: E[] = []
  /** Whether too much is pending to be applied event by event. */
  #overtaken = false
  #waiting: Waiting<S, E>[] = []
  #writing: Promise<void> | undefined
  #cancelWrite: (() => void) | undefined

  constructor(parts: SharedStateParts<S, E>) {
    this.#parts = parts
    this.#known = parts.initial
  }

  /** What this process knows, its own events included. */
  get known(): S {
    return this.#known
  }

  /** Something happened. It counts in this process at once, and is written soon, or with the next decision. */
  note(event: E): void {
    const { reduce, clock, changed } = this.#parts
    const before = this.#known
    this.#known = reduce(before, event)
    this.#keep(event)
    changed(before, this.#known, event)
    this.#cancelWrite ??= clock.later(writeWithinMs, () => {
      this.#cancelWrite = undefined
      void this.settle()
    })
  }

  /** Decides by the state as it is recorded, and records the event that comes of it, in one step that no other process can come between. */
  decide<T>(decide: Decide<S, E, T>): Maybe<T> {
    let now: { readonly result: T } | { readonly error: unknown } | undefined
    let later: { resolve(result: T): void; reject(error: unknown): void } | undefined
    const waiting: Waiting<S, E> = {
      decide,
      settle(result) {
        if (later) later.resolve(result as T)
        else now = { result: result as T }
      },
      fail(error) {
        if (later) later.reject(error)
        else now = { error }
      },
    }
    if (this.#writing) this.#waiting.push(waiting)
    else void this.#write([waiting])
    const done = now as { readonly result: T } | { readonly error: unknown } | undefined
    if (done === undefined) {
      return new Promise<T>((resolve, reject) => {
        later = { resolve, reject }
      })
    }
    if ('error' in done) throw done.error
    return done.result
  }

  /** Writes what is pending, if the store takes it. */
  async settle(): Promise<void> {
    while (this.#writing) await this.#writing
    if (this.#pending.length > 0) await this.#write([])
  }

  /** Learns what is recorded, without changing it. */
  learn(text: string | undefined): void {
    if (text === undefined || this.#writing) return
    this.#known = this.#withPending(this.#parts.parse(text))
  }

  #write(decisions: readonly Waiting<S, E>[]): Maybe<void> {
    const { records, clock, name, keepForMs, initial, parse } = this.#parts
    this.#cancelWrite?.()
    this.#cancelWrite = undefined
    const pending = [...this.#pending]
    const now = clock.now()
    let made: Made<S, E> = { state: this.#known, changes: [], results: [] }
    const change = (text: string | undefined) => {
      made = this.#make(this.#withPending(text === undefined ? initial : parse(text), pending), decisions)
      const isChanged = pending.length > 0 || made.changes.length > 0
      return isChanged ? { value: JSON.stringify(made.state), keepUntil: now + keepForMs } : undefined
    }
    try {
      const done = records.update(name, now, change)
      if (!(done instanceof Promise)) return this.#took(pending.length, made)
      const settled = done.then(
        () => this.#took(pending.length, made),
        () => this.#alone(decisions),
      )
      this.#writing = settled.finally(() => {
        this.#writing = undefined
        this.#goOn()
      })
      return this.#writing
    } catch {
      this.#alone(decisions)
    }
  }

  /** What came up while something was being written goes together. */
  #goOn(): void {
    const waiting = this.#waiting
    if (waiting.length === 0) return
    this.#waiting = []
    void this.#write(waiting)
  }

  /** Decides one after the other, each by what came before. */
  #make(state: S, decisions: readonly Waiting<S, E>[]): Made<S, E> {
    const made: Made<S, E> = { state, changes: [], results: [] }
    for (const { decide, settle, fail } of decisions) {
      try {
        const { result, event } = decide(made.state)
        made.results.push(() => settle(result))
        if (event === undefined) continue
        const before = made.state
        made.state = this.#parts.reduce(before, event)
        made.changes.push({ before, after: made.state, event })
      } catch (error) {
        made.results.push(() => fail(error))
      }
    }
    return made
  }

  #took(written: number, { state, changes, results }: Made<S, E>): void {
    const isOver = this.#overtaken && this.#pending.length <= written
    this.#pending = this.#pending.slice(written)
    if (isOver) this.#overtaken = false
    this.#known = this.#withPending(state)
    for (const { before, after, event } of changes) this.#parts.changed(before, after, event)
    for (const settle of results) settle()
  }

  /** The store fails: decides by what this process knows. */
  #alone(decisions: readonly Waiting<S, E>[]): void {
    const { state, changes, results } = this.#make(this.#known, decisions)
    this.#known = state
    for (const { before, after, event } of changes) {
      this.#keep(event)
      this.#parts.changed(before, after, event)
    }
    for (const settle of results) settle()
  }

  #keep(event: E): void {
    this.#pending.push(event)
    if (this.#pending.length <= mostPending) return
    this.#overtaken = true
    this.#pending = this.#pending.slice(-1)
  }

  #withPending(recorded: S, pending: readonly E[] = this.#pending): S {
    return this.#overtaken ? this.#known : pending.reduce(this.#parts.reduce, recorded)
  }
}

interface Made<S, E> {
  state: S
  readonly changes: { readonly before: S; readonly after: S; readonly event: E }[]
  readonly results: (() => void)[]
}
