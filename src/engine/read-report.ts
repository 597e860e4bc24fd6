import { StashenError } from '../core/errors.js'
import { bucketMs, type LedgerRow } from '../core/ledger/ledger-row.js'
import { reportOf, rowsSince } from '../core/ledger/report.js'
import type { Report } from '../core/ledger/report-model.js'
import type { Store } from '../core/ports/store.js'
import { isTimeZone } from '../core/time/calendar.js'
import { type Moment, momentForms, momentMs } from '../core/time/moment-words.js'
import { readRows } from './ledger-rows.js'
import type { ReportOptions } from './stash.js'

/** The report of what a store's ledger holds, and of rows that it did not take yet. Throws code `USAGE` for a moment that is none. */
export async function readReport(
  store: Store,
  now: number,
  { since, until, zone = 'UTC', by }: ReportOptions = {},
  unwritten: readonly LedgerRow[] = [],
): Promise<Report> {
  if (!isTimeZone(zone))
    throw new StashenError('USAGE', `"zone" is ${JSON.stringify(zone)}, which is no time zone: give an IANA name, e.g. "Europe/Oslo"`)
  if (by !== undefined && by !== 'hour' && by !== 'day')
    throw new StashenError('USAGE', `"by" is ${JSON.stringify(by)}: give "hour" or "day"`)
  const from = since === undefined ? 0 : bucketOf(momentOf(since, 'since', now, zone))
  const to = until === undefined ? Number.MAX_SAFE_INTEGER : momentOf(until, 'until', now, zone)
  const facts = await store.readFacts()
  const begin = from === 0 ? 0 : Math.min(from, rowsSince(facts, from))
  const rows = await readRows(store, { since: begin, until: to, cuts: [from, to], finest: by }, unwritten)
  return reportOf({ rows, facts, since: from, until: Math.min(to, now), times: by && { by, zone } })
}

function momentOf(moment: Moment, option: string, now: number, zone: string): number {
  const ms = momentMs(moment, now, zone)
  if (ms !== undefined) return ms
  throw new StashenError('USAGE', `"${option}" is ${JSON.stringify(moment)}, which is no moment: give ${momentForms}`)
}

/** Begin of the bucket that a moment falls in: buckets are reported whole. */
function bucketOf(ms: number): number {
  return Math.floor(ms / bucketMs) * bucketMs
}
