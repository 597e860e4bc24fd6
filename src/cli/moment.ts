import { UsageError } from './usage-error.js'

/** A moment that an option gives, milliseconds since 1970-01-01T00:00Z; the present where it gives none. */
export function momentOf(at: string | undefined): number {
  const ms = at === undefined ? Date.now() : Date.parse(at)
  if (Number.isFinite(ms)) return ms
  throw new UsageError(`"${at}" is no moment: give ISO 8601 with --at, e.g. 2026-06-30T06:00+02:00`)
}
