import { OnDemand } from '../on-demand.js'

/**
 * Calendars are as large as all that answers calls: they are loaded before anything is asked of a limit by the calendar or of a budget, be it one that
 * another process has left in a store.
 */
export const calendarCode = new OnDemand(() => import('./calendar-code.js'))

export async function loadCalendars(): Promise<void> {
  await calendarCode.get()
}

/** The calendars that were loaded. */
export function calendars(): typeof import('./calendar-code.js') {
  const { loaded } = calendarCode
  if (!loaded) throw new TypeError('a limit or budget of a calendar before calendars were loaded')
  return loaded
}
