import { StashenError } from '../core/errors.js'
import { bucketMs, type LedgerRow } from '../core/ledger/ledger-row.js'
import { reportOf, rowsSince } from '../core/ledger/report.js'
import type { Report } from '../core/ledger/report-model.js'
import type { Store } from '../core/ports/store.js'
import type { Moment, ReportOptions } from './stash.js'

/** The report of what a store's ledger holds, and of rows that it did not take yet. Throws code `USAGE` for a moment that is none. */
export async function readReport(
  store: Store,
  now: number,
  { since, until }: ReportOptions = {},
  unwritten: readonly LedgerRow[] = [],
): Promise<Report> {
  const from = since === undefined ? 0 : bucketOf(momentMs(since, 'since'))
  const to = until === undefined ? Number.MAX_SAFE_INTEGER : momentMs(until, 'until')
  const facts = await store.readFacts()
  const between = (first: number, end: number) => unwritten.filter(({ bucket }) => bucket >= first && bucket < end)
  const rows = [...(await store.readLedger(from, to)), ...between(from, to)]
  const last = rows.reduce((latest, row) => Math.max(latest, row.bucket), from)
  const first = rows.reduce((earliest, row) => Math.min(earliest, row.bucket), last)
  const begin = Math.min(from, rowsSince(facts, first, last))
  const before = [...(await store.readLedger(begin, from)), ...between(begin, from)]
  return reportOf({ rows: [...before, ...rows], facts, since: from, until: Math.min(to, now) })
}

/** A moment in milliseconds since 1970-01-01T00:00Z. */
function momentMs(moment: Moment, option: string): number {
  const ms = typeof moment === 'number' ? moment : new Date(moment).getTime()
  if (Number.isFinite(ms)) return ms
  throw new StashenError('USAGE', `"${option}" is ${JSON.stringify(moment)}, which is no moment: give ISO 8601, e.g. "2026-06-30T06:00Z"`)
}

/** Begin of the bucket that a moment falls in: buckets are reported whole. */
function bucketOf(ms: number): number {
  return Math.floor(ms / bucketMs) * bucketMs
}
