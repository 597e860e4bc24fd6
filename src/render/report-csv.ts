import { stringify } from 'csv-stringify/sync'
import type { Report } from '../core/ledger/report-model.js'
import { columns, reportRows } from './report-rows.js'

/** A report as CSV (RFC 4180): a header, then a line for each endpoint, provider and side. Decimals have points. */
export function reportCsv(report: Report): string {
  return stringify(reportRows(report), { header: true, columns: [...columns], record_delimiter: 'windows' })
}
