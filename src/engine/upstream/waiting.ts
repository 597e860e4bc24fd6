/** The work, or what its failing comes to; and at once what is given instead when `signal` aborts. */
export function untilAborted<T>(work: () => Promise<T>, signal: AbortSignal, instead: (reason: unknown) => T): Promise<T> {
  return new Promise((resolve) => {
    const aborted = () => resolve(instead(signal.reason))
    if (signal.aborted) return aborted()
    signal.addEventListener('abort', aborted, { once: true })
    work().then(resolve, (error) => resolve(instead(error)))
  })
}

/** Long enough for an answer that is there already to be read and stored, and no time at all by the clock. */
export async function aFewTurns(): Promise<void> {
  for (let turn = 0; turn < 100; turn++) await undefined
}
