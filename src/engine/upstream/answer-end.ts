import type { Finished } from '../call/fetched.js'
import type { Ended, Usage } from './landed.js'

/** What becomes of an answer, for whoever wants to hear it: first of all of it, then of its storing. */
export class AnswerEnd {
  #whole: { readonly finished: Finished; readonly usage: Usage } | undefined
  #ended: Ended | undefined
  #release = () => {}
  readonly #forWhole: ((finished: Finished, usage: Usage) => void)[] = []
  readonly #forEnd: ((ended: Ended) => void)[] = []

  /** Resolves once callers may see its end. */
  readonly release = new Promise<void>((resolve) => {
    this.#release = resolve
  })

  released(): void {
    this.#release()
  }

  /** How it came to its end, once it has. */
  get finished(): Finished | undefined {
    return this.#whole?.finished
  }

  get isOver(): boolean {
    return this.#ended !== undefined
  }

  whole(finished: Finished, usage: Usage): void {
    this.#whole = { finished, usage }
    for (const then of this.#forWhole) then(finished, usage)
  }

  readonly over = (ended: Ended): void => {
    this.#ended = ended
    for (const then of this.#forEnd) then(ended)
  }

  readonly onWhole = (then: (finished: Finished, usage: Usage) => void): void => {
    if (this.#whole) then(this.#whole.finished, this.#whole.usage)
    else this.#forWhole.push(then)
  }

  readonly onEnd = (then: (ended: Ended) => void): void => {
    if (this.#ended) then(this.#ended)
    else this.#forEnd.push(then)
  }
}
