/** How long after its end an hour or a day is put together, milliseconds: so late may other processes write. */
const afterMs = 600_000

/** The end of the latest span of `unitMs` that no process counts in any more. */
export function settledUntil(now: number, unitMs: number): number {
  return Math.floor((now - afterMs) / unitMs) * unitMs
}
