const months = ['jan', 'feb', 'mar', 'apr', 'may', 'jun', 'jul', 'aug', 'sep', 'oct', 'nov', 'dec']
const fifty = 50 * 365.25 * 86_400_000

const imfFixdate = /^[a-z]{3}, (\d{2}) ([a-z]{3}) (\d{4}) (\d{2}):(\d{2}):(\d{2}) gmt$/i
const rfc850Date = /^[a-z]{6,9}, (\d{2})-([a-z]{3})-(\d{2}) (\d{2}):(\d{2}):(\d{2}) gmt$/i
const asctimeDate = /^[a-z]{3} ([a-z]{3}) ([\d ]\d) (\d{2}):(\d{2}):(\d{2}) (\d{4})$/i

/**
 * Milliseconds since 1970-01-01T00:00Z of an HTTP-date in any of its three forms (RFC 9110 section 5.6.7), undefined for anything
 * else, also for a zone other than GMT. Case does not matter (RFC 9111 section 4.2). Two digits of a year that would lie more than
 * 50 years after `now` mean the century before.
 */
export function parseHttpDate(text: string | undefined, now: number): number | undefined {
  if (text === undefined) return undefined
  const fixed = imfFixdate.exec(text)
  if (fixed) return moment(fixed[3], fixed[2], fixed[1], fixed[4], fixed[5], fixed[6])
  const short = rfc850Date.exec(text)
  if (short) {
    const century = Math.floor(new Date(now).getUTCFullYear() / 100) * 100
    const at = moment(String(century + Number(short[3])), short[2], short[1], short[4], short[5], short[6])
    return at !== undefined && at > now + fifty
      ? moment(String(century - 100 + Number(short[3])), short[2], short[1], short[4], short[5], short[6])
      : at
  }
  const c = asctimeDate.exec(text)
  return c ? moment(c[6], c[1], c[2], c[3], c[4], c[5]) : undefined
}

/** A moment as an HTTP-date (RFC 9110 section 5.6.7). */
export function httpDate(at: number): string {
  const second = Math.floor(at / 1000)
  if (second !== latest.second) latest = { second, text: new Date(at).toUTCString() }
  return latest.text
}

/** The second that was asked for last: mostly it is asked for again. */
let latest = { second: Number.NaN, text: '' }

function moment(year = '', monthName = '', day = '', hour = '', minute = '', second = ''): number | undefined {
  const month = months.indexOf(monthName.toLowerCase())
  const parts = [Number(day), Number(hour), Number(minute), Number(second)] as const
  const at = Date.UTC(Number(year), month, ...parts)
  const date = new Date(at)
  const stands = month >= 0 && date.getUTCDate() === parts[0] && parts[1] < 24 && parts[2] < 60 && parts[3] <= 60
  return stands ? at : undefined
}
