import { UsageError } from '../core/errors/setup-errors.js'
import { momentForms, momentMs } from '../core/time/moment.js'

/** A moment that an option gives, milliseconds since 1970-01-01T00:00Z; the present where it gives none. */
export function momentOf(at: string | undefined, zone: string): number {
  const now = Date.now()
  const ms = at === undefined ? now : momentMs(at, now, zone)
  if (ms !== undefined) return ms
  throw new UsageError(`"${at}" is not a moment: give ${momentForms}`)
}
