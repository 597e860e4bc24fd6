/** The harbour's calendar and clock. */
export const zone = 'Europe/Oslo'

/** Midnight in Kelpmouth at the begin of the demo day, 30 June 2026. */
export const dayStart = Date.parse('2026-06-30T00:00:00+02:00')
export const hour = 3_600_000
export const minute = 60_000

export const station = { id: 'st-017', name: 'Kelpmouth', lat: 58.312, lon: 6.481 }
export const harbour = 'kelpmouth'

/** When a new tariff is announced on the demo day, in hours. */
export const tariffChange = 11

/** The only key that the positions API takes; it goes in the query. */
export const skerrylightKey = 'made-up-harbour-key'

/** Vessels known to the positions API, and when they are under way, in hours of the day. */
export const vessels = [
  { id: 'v-201', name: 'Marram', lengthM: 12, underWay: [7, 15] },
  { id: 'v-202', name: 'Sandwort', lengthM: 24, underWay: [5, 11] },
  { id: 'v-203', name: 'Thrift', lengthM: 9, underWay: [16, 22] },
  { id: 'v-204', name: 'Samphire', lengthM: 17, underWay: [0, 0] },
] as const

/** Hours since midnight in Kelpmouth on the day that `at` falls in. The demo world has no daylight-saving change. */
export function hourOfDay(at: number): number {
  return ((((at - dayStart) % (24 * hour)) + 24 * hour) % (24 * hour)) / hour
}

/** The day of `at` in Kelpmouth, e.g. `2026-06-30`. */
export function dayOf(at: number): string {
  return new Date(at + 2 * hour).toISOString().slice(0, 10)
}
