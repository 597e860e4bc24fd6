export const calendarPeriods = ['day', 'month', 'year'] as const
export type CalendarPeriod = (typeof calendarPeriods)[number]
