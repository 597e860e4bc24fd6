import type { Clock } from './ports/clock.js'
import type { EntryStore } from './ports/entry-store.js'
import type { Maybe } from './ports/maybe.js'
import type { Selection } from './ports/selection.js'
import type { Steps } from './steps.js'

type Later = Pick<Clock, 'later'>

/** Does a longer work piece by piece, and lets others come between. At once where one piece is all of it. */
export function inPieces<P>(clock: Later, work: (before: P | undefined) => Maybe<P>, isMore: (piece: P) => boolean): Maybe<void> {
  const first = work(undefined)
  if (first instanceof Promise || isMore(first)) return rest(clock, first, work, isMore)
}

async function rest<P>(clock: Later, first: Maybe<P>, work: (before: P) => Maybe<P>, isMore: (piece: P) => boolean): Promise<void> {
  let piece = await first
  while (isMore(piece)) {
    await nextTurn(clock)
    piece = await work(piece)
  }
}

/** Lets timers and arrivals come first. */
function nextTurn(clock: Later): Promise<void> {
  return new Promise((resolve) => {
    clock.later(0, resolve, true)
  })
}

/** Invalidates all that a selection means, however much that is, and what is on its way. */
export function invalidateAll(
  clock: Later,
  entries: Pick<EntryStore, 'invalidate' | 'claims'>,
  selection: Selection,
  now: number,
): Maybe<void> {
  void entries.claims?.drop(selection)
  return inPieces(
    clock,
    (before: { readonly next: string | undefined } | undefined) => entries.invalidate(selection, now, before?.next),
    ({ next }) => next !== undefined,
  )
}

/** How long a work goes on before others come between, milliseconds. */
const turnMs = 4

/** The turns of a long work: lets others come between when one has taken long enough. */
export class Turns {
  readonly #clock: Pick<Clock, 'later' | 'ticks'>
  #began: number

  constructor(clock: Pick<Clock, 'later' | 'ticks'>) {
    this.#clock = clock
    this.#began = clock.ticks()
  }

  /** To be waited for wherever the work can stop. */
  async next(): Promise<void> {
    if (this.#clock.ticks() - this.#began < turnMs) return
    await nextTurn(this.#clock)
    this.#began = this.#clock.ticks()
  }
}

/** Does a long work, and lets others come between. */
export async function inTurns<T>(clock: Pick<Clock, 'later' | 'ticks'>, steps: Steps<T>): Promise<T> {
  const turns = new Turns(clock)
  for (;;) {
    const step = steps.next()
    if (step.done) return step.value
    await turns.next()
  }
}
