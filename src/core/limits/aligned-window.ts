import { calendars } from './calendars.js'
import type { Limit } from './limit.js'

/** The aligned window that `now` falls in; `end` exclusive. */
export function alignedWindow({ perMs, calendar }: Limit & { kind: 'aligned' }, now: number): { start: number; end: number } {
  if (calendar) return calendars().periodAround(now, calendar.unit, calendar.zone)
  const start = Math.floor(now / perMs) * perMs
  return { start, end: start + perMs }
}
