import { numberOf } from '../money/units.js'

/** Whether there is any sum. */
export function hasAny(sums: Readonly<Record<string, number>>): boolean {
  for (const _ in sums) return true
  return false
}

/** Sums of which there are none; shared, and never changed. */
export const noSums: Record<string, number> = Object.freeze({})

/** With more sums by name, in the same object unless there were none. */
export function sumsWith(sums: Record<string, number>, more: Readonly<Record<string, number>>, times = 1): Record<string, number> {
  if (!hasAny(more)) return sums
  const own = sums === noSums ? {} : sums
  addTo(own, more, times)
  return own
}

/** Adds to sums by name, so many times. */
export function addTo(sums: Record<string, number>, more: Readonly<Record<string, number>>, times = 1): void {
  for (const name in more) if (more[name] !== 0) sums[name] = numberOf(sums, name) + times * (more[name] as number)
}
