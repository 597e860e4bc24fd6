/** A clock that was set back: the latest moment that was known before, and the present. Milliseconds since 1970-01-01T00:00Z. */
export interface ClockChange {
  readonly latest: number
  readonly now: number
}

/** Moments may lie so far in the future without the clock having been set back: those of other machines. Milliseconds. */
export const clockTolerance = 5_000

/** A moment by the clock as it is now: what had happened already happened now, what was still to come is as far away as it was. */
export function moved(moment: number, { latest, now }: ClockChange): number {
  if (moment <= now) return moment
  return moment > latest ? now + (moment - latest) : now
}
