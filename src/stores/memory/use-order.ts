/** A link of the chain. */
export interface Link<T> {
  newer: T | undefined
  older: T | undefined
}

/** A doubly linked chain from the most to the least recently used; every operation takes constant time. */
export class UseOrder<T extends Link<T>> {
  #newest: T | undefined
  #oldest: T | undefined

  get oldest(): T | undefined {
    return this.#oldest
  }

  /** From the least recently used on; a link may be taken out while it is looked at. */
  *[Symbol.iterator](): Iterator<T> {
    for (let link = this.#oldest, next = link?.newer; link; link = next, next = link?.newer) yield link
  }

  add(link: T): void {
    link.older = this.#newest
    link.newer = undefined
    if (this.#newest) this.#newest.newer = link
    this.#newest = link
    this.#oldest ??= link
  }

  use(link: T): void {
    if (link === this.#newest) return
    this.remove(link)
    this.add(link)
  }

  remove(link: T): void {
    if (link.newer) link.newer.older = link.older
    else this.#newest = link.older
    if (link.older) link.older.newer = link.newer
    else this.#oldest = link.newer
  }
}
