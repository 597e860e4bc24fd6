import { parseHttpDate } from './http-date.js'
import { type Fields, fieldValue } from './stored-head.js'

/** When an answer was asked for and when its head arrived, milliseconds since 1970-01-01T00:00Z. */
export interface Exchange {
  readonly askedAt: number
  readonly answeredAt: number
}

/** How old an answer was when it arrived, in milliseconds (`corrected_initial_age` of RFC 9111 section 4.2.3). */
export function initialAgeMs(fields: Fields, { askedAt, answeredAt }: Exchange): number {
  const apparentAge = Math.max(0, answeredAt - dateOf(fields, answeredAt))
  const correctedAge = saidAgeMs(fields) + Math.max(0, answeredAt - askedAt)
  return Math.max(apparentAge, correctedAge)
}

/** When an answer was made: its `Date`, or when it arrived where it says none (RFC 9110 section 6.6.1). */
export function dateOf(fields: Fields, answeredAt: number): number {
  return parseHttpDate(fieldValue(fields, 'date'), answeredAt) ?? answeredAt
}

/** The `Age` that caches on the way give: the first where there are several, nothing where it is no number (RFC 9111 section 5.1). */
function saidAgeMs(fields: Fields): number {
  const [first = ''] = (fieldValue(fields, 'age') ?? '').split(',')
  return /^\s*\d+\s*$/.test(first) ? Math.min(Number(first), 2 ** 31) * 1000 : 0
}
