/** An invalidation of many entries: by which change, and when. */
export interface Mark {
  readonly change: number
  readonly now: number
}

/** Invalidations of many entries at once: each counts for entries that were changed before it. */
export class Marks {
  readonly #marks: Mark[] = []
  /** The latest change. */
  latest = 0

  add(change: number, now: number): void {
    this.latest = change
    this.#marks.push({ change, now })
    if (this.#marks.length > mostMarks) this.#marks.shift()
  }

  /** The first one after a change. */
  after(change: number): Mark | undefined {
    return this.#marks.find((mark) => mark.change > change)
  }
}

/** Invalidations remembered of entries that belong together, at the most; an entry that nobody asked for since gets its times by a later one then. */
const mostMarks = 50
