import { numberOf } from '../money/units.js'

/** Whether there is any sum. */
export function hasAny(sums: Readonly<Record<string, number>>): boolean {
  for (const _ in sums) return true
  return false
}

/** Adds to sums by name, so many times. */
export function addTo(sums: Record<string, number>, more: Readonly<Record<string, number>>, times = 1): void {
  for (const name in more) if (more[name] !== 0) sums[name] = numberOf(sums, name) + times * (more[name] as number)
}
