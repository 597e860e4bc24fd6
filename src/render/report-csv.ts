import { stringify } from 'csv-stringify/sync'
import type { Report } from '../core/ledger/report-model.js'
import { printable } from './printable.js'
import { columns, type ReportRow, reportRows } from './report-rows.js'

/** A report as CSV (RFC 4180): a header, then a line for each endpoint and fee, or hour or day, and what else `kind` says. Decimals have points. */
export function reportCsv(report: Report): string {
  return stringify(reportRows(printable(report)).map(withoutFormulas), { header: true, columns: [...columns], record_delimiter: 'windows' })
}

/** A row in which no spreadsheet takes a name for a formula: an apostrophe before it says that it is text. */
function withoutFormulas(row: ReportRow): ReportRow {
  return Object.fromEntries(
    Object.entries(row).map(([name, cell]) => [
      name,
      typeof cell === 'string' && /^[=+\-@]/.test(cell) && !/^-?[\d.]+$/.test(cell) ? `'${cell}` : cell,
    ]),
  ) as ReportRow
}
