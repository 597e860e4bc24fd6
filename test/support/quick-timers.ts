const { setTimeout: real } = globalThis

/** Has what is written about once a second, counts and uses of entries, be written at once. All other timers are as ever. */
export function quickenTimers(): void {
  globalThis.setTimeout = ((run: () => void, ms = 0, ...rest: []) =>
    real(run, ms >= 800 && ms <= 1_000 ? 10 : ms, ...rest)) as typeof setTimeout
}

/** The same, while `work` is done. */
export async function withQuickTimers<T>(work: () => Promise<T>): Promise<T> {
  quickenTimers()
  try {
    return await work()
  } finally {
    globalThis.setTimeout = real
  }
}
