import type { Mark } from './marks.js'

/** Slots that are looked at for each invalidation, at the least; and in how many all of them are. */
const leastSteps = 8
const roundOf = 10_000

interface All<S> {
  readonly size: number
  values(): Iterator<S>
}

/**
 * Invalidations of all that is stored for a path, with whatever query: nothing finds these entries, so that each gets its times when it is looked at. All
 * are, a few for each invalidation, so that those can be forgotten which everything has got.
 */
export class PathMarks<S extends { readonly key: string }> {
  readonly #slots: All<S>
  readonly #look: (slot: S) => void
  readonly #marks = new Map<string, Mark>()
  /** Goes round all slots; what was marked before it began can be forgotten at its end. */
  #hand: Iterator<S> | undefined
  #began = 0
  /** The latest change. */
  latest = 0

  /** `look` gives a slot its times. */
  constructor(slots: All<S>, look: (slot: S) => void) {
    this.#slots = slots
    this.#look = look
  }

  add(path: string, change: number, now: number): void {
    this.latest = change
    this.#marks.delete(path)
    this.#marks.set(path, { change, now })
    this.#step(change)
  }

  /** The invalidation of its path since a change. */
  after(key: string, change: number): Mark | undefined {
    if (this.latest <= change) return undefined
    const query = key.indexOf('?')
    const mark = query < 0 ? undefined : this.#marks.get(key.slice(0, query))
    return mark && mark.change > change ? mark : undefined
  }

  #step(change: number): void {
    if (!this.#hand) {
      this.#hand = this.#slots.values()
      this.#began = change
    }
    const steps = Math.max(leastSteps, Math.ceil(this.#slots.size / roundOf))
    for (let i = 0; i < steps; i++) {
      const { done, value } = this.#hand.next()
      if (done) {
        for (const [path, mark] of this.#marks) {
          if (mark.change > this.#began) break
          this.#marks.delete(path)
        }
        this.#hand = undefined
        return
      }
      this.#look(value)
    }
  }
}
