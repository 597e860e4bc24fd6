import pc from 'picocolors'
import { UsageError } from '../core/errors/setup-errors.js'
import { shown } from '../core/errors/shown.js'
import type { Report } from '../core/ledger/report-model.js'
import { isTimeZone } from '../core/time/time-zone.js'
import { drawing } from './html/charts.js'
import { reportHtml } from './html/report-html.js'
import { reportCsv } from './report-csv.js'
import { reportMarkdown } from './report-markdown.js'
import { reportText } from './report-text.js'

export interface RenderOptions {
  /** IANA time zone in which moments are printed. Default `"UTC"`. */
  readonly zone?: string
}

export interface TextRenderOptions extends RenderOptions {
  /** Whether every column is printed, in lines of more than 80 characters. Default false. */
  readonly wide?: boolean
  /** Whether it is coloured for a terminal. Default false. */
  readonly colors?: boolean
}

/**
 * A report as text for a terminal or a log, in lines of up to 80 characters. Throws code `USAGE` for an unknown zone, and for what is no report, as do the others.
 *
 * ```ts
 * import { renderText } from 'stashen/render'
 * console.log(renderText(await stash.report({ since: 'start of month' }), { zone: 'Europe/Oslo' }))
 * ```
 */
export function renderText(report: Report, { zone, wide = false, colors = false }: TextRenderOptions = {}): string {
  return reportText(checked(report), { colors: pc.createColors(colors), zone: known(zone), wide })
}

/** A report as Markdown: tables of endpoints, providers and whatever else is in it. */
export function renderMarkdown(report: Report, { zone }: RenderOptions = {}): string {
  return reportMarkdown(checked(report), known(zone))
}

/** A report as CSV (RFC 4180): a line for each endpoint and fee, or hour or day, whose columns add up; moments in ISO 8601. */
export function renderCsv(report: Report): string {
  return reportCsv(checked(report))
}

/** A report as one HTML page with charts. Rejects with `MissingPackageError` where the package `echarts` is not installed. */
export async function renderHtml(report: Report, { zone }: RenderOptions = {}): Promise<string> {
  return reportHtml(checked(report), { zone: known(zone), draw: await drawing() })
}

function checked(report: Report): Report {
  const isReport = Array.isArray(report?.providers) && (report.since === null || report.since instanceof Date)
  if (!isReport) throw new UsageError('this is no report: give what "stash.report()" returned, before it became JSON')
  return report
}

function known(zone = 'UTC'): string {
  if (!isTimeZone(zone)) throw new UsageError(`${shown(zone)} is not an IANA time zone: write one such as "Europe/Oslo"`)
  return zone
}
