import { mkdirSync, rmdirSync, statSync } from 'node:fs'

/** After so long whoever took it has died, milliseconds; and how long it takes to look again. */
const staleAfterMs = 2_000
const lookAgainMs = 2

/** Does work on a store file that one process at a time may do, whatever state the file is in: a folder beside it is the lock. */
export function whileLocked<T>(path: string, work: () => T): T {
  const lock = `${path}.lock`
  const isLocked = take(lock)
  try {
    return work()
  } finally {
    if (isLocked) release(lock)
  }
}

/** Waits for the lock. Returns false where there can be none, as in a folder that is gone. */
function take(lock: string): boolean {
  const until = Date.now() + 2 * staleAfterMs
  while (Date.now() < until) {
    try {
      mkdirSync(lock)
      return true
    } catch (error) {
      if ((error as NodeJS.ErrnoException).code !== 'EEXIST') return false
    }
    const since = statSync(lock, { throwIfNoEntry: false })?.mtimeMs
    if (since !== undefined && Date.now() - since > staleAfterMs) release(lock)
    else Atomics.wait(new Int32Array(new SharedArrayBuffer(4)), 0, 0, lookAgainMs)
  }
  return false
}

function release(lock: string): void {
  try {
    rmdirSync(lock)
  } catch {
    // another process took it for left behind
  }
}
