import type { Clock } from '../../core/ports/clock.js'
import type { Maybe } from '../../core/ports/maybe.js'
import type { SharedRecords } from '../../core/ports/shared-records.js'
import { type Own, OwnEvents } from './own-events.js'

export interface SharedStateParts<S, E> {
  readonly records: Pick<SharedRecords, 'read' | 'update'>
  readonly clock: Clock
  /** The name of its record. */
  readonly name: string
  /** What is known where nothing is recorded. */
  readonly initial: S
  /** Never throws: what is no state counts as nothing known. */
  readonly parse: (text: string) => S
  readonly reduce: (state: S, event: E) => S
  /** How many events a state has come about by. A record with fewer than one seen before is what a store that lost something has left. */
  readonly changesOf: (state: S) => number
  /** The number of the latest event of this process in a state, 0 where there is none; and a state in which that is noted. */
  readonly numberOf: (state: S) => number
  readonly numbered: (state: S, number: number) => S
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

/**
 * State that several processes change through events and one reducer. What is decided and what happened meanwhile is written together, one
 * write at a time; while the store fails this process goes on by what it knows, and its events are applied once the store is back.
 */
export class SharedState<S, E> {
  readonly #parts: SharedStateParts<S, E>
  #known: S
  /** The latest state that was recorded, as far as this process has seen it. */
  #recorded: S
  /** Its text, where the record is that of `#recorded`: then it need not be parsed again. */
  #text: string | undefined
  readonly #own = new OwnEvents<E>()
  /** Whether too much is pending to be applied event by event. */
  #overtaken = false
  #waiting: Waiting<S, E>[] = []
  #writing: Promise<void> | undefined
  #cancelWrite: (() => void) | undefined

  constructor(parts: SharedStateParts<S, E>) {
    this.#parts = parts
    this.#known = parts.initial
    this.#recorded = parts.initial
  }

  /** What this process knows, its own events included. */
  get known(): S {
    return this.#known
  }

  /** Something happened. It counts in this process at once, and is written soon, or with the next decision. */
  note(event: E): void {
    const { clock, changed } = this.#parts
    const before = this.#known
    const own = this.#own.numbered(event)
    this.#known = this.#applied(before, own)
    this.#keep(own)
    changed(before, this.#known, event)
    this.#cancelWrite ??= clock.later(writeWithinMs, () => {
      this.#cancelWrite = undefined
      void this.settle()
    })
  }

  /**
   * Decides by the state as it is recorded, and records the event that comes of it, in one step that no other process can come between.
   * What is to be decided in one turn of this process is decided and written together.
   */
  decide<T>(decide: Decide<S, E, T>): Promise<T> {
    return new Promise<T>((resolve, reject) => {
      this.#waiting.push({ decide, settle: resolve as (result: unknown) => void, fail: reject })
      if (this.#writing || this.#waiting.length > 1) return
      void Promise.resolve().then(() => {
        if (!this.#writing) this.#goOn()
      })
    })
  }

  /** Writes what is pending, if the store takes it. */
  async settle(): Promise<void> {
    while (this.#writing) await this.#writing
    if (this.#own.pending.length > 0) await this.#write([])
  }

  /** What is recorded, with what this process knows besides; where the store fails, what this process knows. */
  look(): Maybe<S> {
    const { records, clock, name } = this.#parts
    try {
      const text = records.read(name, clock.now())
      if (!(text instanceof Promise)) return this.#learned(text)
      return text.then(
        (read) => this.#learned(read),
        () => this.#known,
      )
    } catch {
      return this.#known
    }
  }

  #learned(text: string | undefined): S {
    if (text === undefined || text === this.#text || this.#writing) return this.#known
    const recorded = this.#latest(text)
    if (recorded !== this.#recorded) this.#text = text
    this.#recorded = recorded
    this.#known = this.#withPending(this.#recorded)
    return this.#known
  }

  #write(decisions: readonly Waiting<S, E>[]): Maybe<void> {
    const { records, clock, name, keepForMs } = this.#parts
    this.#cancelWrite?.()
    this.#cancelWrite = undefined
    const pending = [...this.#own.pending]
    const now = clock.now()
    const first = this.#own.reserve(decisions.length)
    let made: Made<S, E> = { state: this.#known, text: undefined, changes: [], results: [] }
    const change = (text: string | undefined) => {
      const isKnown = text !== undefined && text === this.#text && this.#own.pending.length === pending.length
      made = this.#make(isKnown ? this.#known : this.#withPending(this.#latest(text), pending), decisions, first)
      const isChanged = pending.length > 0 || made.changes.length > 0
      made.text = isChanged ? JSON.stringify(made.state) : isKnown ? text : undefined
      return isChanged ? { value: made.text as string, keepUntil: now + keepForMs } : undefined
    }
    try {
      const done = records.update(name, now, change)
      if (!(done instanceof Promise)) return this.#took(pending, made)
      const settled = done.then(
        () => this.#took(pending, made),
        () => this.#alone(decisions, first),
      )
      this.#writing = settled.finally(() => {
        this.#writing = undefined
        this.#goOn()
      })
      return this.#writing
    } catch {
      this.#alone(decisions, first)
    }
  }

  /** What came up while something was being written goes together. */
  #goOn(): void {
    const waiting = this.#waiting
    if (waiting.length === 0) return
    this.#waiting = []
    void this.#write(waiting)
  }

  /** Decides one after the other, each by what came before; their events are numbered from `first` on. */
  #make(state: S, decisions: readonly Waiting<S, E>[], first: number): Made<S, E> {
    const made: Made<S, E> = { state, text: undefined, changes: [], results: [] }
    for (const [i, { decide, settle, fail }] of decisions.entries()) {
      try {
        const { result, event } = decide(made.state)
        made.results.push(() => settle(result))
        if (event === undefined) continue
        const before = made.state
        const own = { number: first + i, event }
        made.state = this.#applied(before, own)
        made.changes.push({ before, after: made.state, own })
      } catch (error) {
        made.results.push(() => fail(error))
      }
    }
    return made
  }

  #took(pending: readonly Own<E>[], { state, text, changes, results }: Made<S, E>): void {
    const decided = changes.map(({ own }) => own)
    this.#own.record([...pending, ...decided], this.#parts.clock.ticks())
    if (this.#own.pending.length === 0) this.#overtaken = false
    this.#recorded = state
    this.#text = text
    this.#known = this.#withPending(state)
    for (const { before, after, own } of changes) this.#parts.changed(before, after, own.event)
    for (const settle of results) settle()
  }

  /** The store fails: decides by what this process knows. */
  #alone(decisions: readonly Waiting<S, E>[], first: number): void {
    const { state, changes, results } = this.#make(this.#known, decisions, first)
    this.#known = state
    for (const { before, after, own } of changes) {
      this.#keep(own)
      this.#parts.changed(before, after, own.event)
    }
    for (const settle of results) settle()
  }

  /** What is recorded, unless the store lost what this process has seen in it. */
  #latest(text: string | undefined): S {
    const { parse, changesOf } = this.#parts
    const recorded = text === undefined ? undefined : parse(text)
    return recorded === undefined || changesOf(recorded) < changesOf(this.#recorded) ? this.#recorded : recorded
  }

  #applied(state: S, { number, event }: Own<E>): S {
    return this.#parts.numbered(this.#parts.reduce(state, event), number)
  }

  #keep(own: Own<E>): void {
    if (!this.#own.keep(own)) this.#overtaken = true
  }

  /** What is recorded, with the events of this process that are not in it: that are not written yet, or that the store lost. */
  #withPending(recorded: S, pending: readonly Own<E>[] = this.#own.pending): S {
    if (this.#overtaken) return this.#known
    const { numberOf, clock } = this.#parts
    const missing = this.#own.missing(numberOf(recorded), pending, clock.ticks())
    return missing.reduce((state, own) => this.#applied(state, own), recorded)
  }
}

interface Made<S, E> {
  state: S
  /** What was written of it, where it was. */
  text: string | undefined
  readonly changes: { readonly before: S; readonly after: S; readonly own: Own<E> }[]
  readonly results: (() => void)[]
}
