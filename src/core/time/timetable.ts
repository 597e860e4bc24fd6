export const weekdays = ['monday', 'tuesday', 'wednesday', 'thursday', 'friday', 'saturday', 'sunday'] as const
export type Weekday = (typeof weekdays)[number]

/**
 * When a provider publishes anew, by the clock on the wall of a time zone (IANA). Times are `"HH:MM"`. A time that a
 * daylight-saving change leaves out is taken as much later as the clock was moved; of one that comes twice the first counts.
 */
export type Timetable =
  | { readonly daily: string; readonly zone: string; readonly weekly?: undefined; readonly monthly?: undefined; readonly at?: undefined }
  | { readonly weekly: Weekday; readonly at: string; readonly zone: string; readonly daily?: undefined; readonly monthly?: undefined }
  /** The day of the month, 1 to 31; in shorter months their last day. */
  | { readonly monthly: number; readonly at: string; readonly zone: string; readonly daily?: undefined; readonly weekly?: undefined }

export function isTimeOfDay(text: string): boolean {
  return /^([01]\d|2[0-3]):[0-5]\d$/.test(text)
}
