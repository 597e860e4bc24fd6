/** A long work that stops now and then, so that others can come between. */
export type Steps<T> = Generator<void, T, void>

/** How many of many small things are done in a step. */
const inAStep = 2_048

/** Does something with each of many. */
export function* forEach<T>(all: readonly T[], work: (one: T) => void): Steps<void> {
  for (let i = 0; i < all.length; i++) {
    work(all[i] as T)
    if (i % inAStep === inAStep - 1) yield
  }
}

/** Those of many that a condition holds for. */
export function* filtered<T>(all: readonly T[], holds: (one: T) => boolean): Steps<T[]> {
  const some: T[] = []
  yield* forEach(all, (one) => {
    if (holds(one)) some.push(one)
  })
  return some
}

/** Does all of a work without a stop. */
export function allSteps<T>(steps: Steps<T>): T {
  for (;;) {
    const step = steps.next()
    if (step.done) return step.value
  }
}
