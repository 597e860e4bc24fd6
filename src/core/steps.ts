/** A long work that stops now and then, so that others can come between. */
export type Steps<T> = Generator<void, T, void>

/** Does all of a work without a stop. */
export function allSteps<T>(steps: Steps<T>): T {
  for (;;) {
    const step = steps.next()
    if (step.done) return step.value
  }
}
