import type { UsageExportOptions } from '../core/endpoints/provider-options.js'
import { ConfigError, type ConfigFault } from '../core/errors/setup-errors.js'
import { shown } from '../core/errors/shown.js'
import type { UsageOfDays } from '../core/ledger/reconcile.js'
import { decimalOf, isWholeNumber } from './usage-number.js'
import { type UsageLine, usageLines } from './usage-records.js'

/** What a provider's usage export says. */
export interface UsageExport {
  readonly usage: readonly UsageOfDays[]
  /** What was skipped, in sentences. */
  readonly notices: readonly string[]
}

/**
 * Reads a provider's usage export: CSV (RFC 4180) with a header line, separated by commas, semicolons or tabs; a JSON array of objects, alone
 * or as `data` of an object; or JSON Lines. In UTF-8 or UTF-16. Lines with totals are skipped. Throws `ConfigError` with every fault at once, each with
 * its line.
 */
export function parseUsage(export_: string | Uint8Array, columns: UsageExportOptions = {}, period?: string): UsageExport {
  const { day: dayColumn = 'day', amount: amountColumn, decimal = 'point' } = columns
  const callsColumn = columns.calls ?? (amountColumn === undefined ? 'calls' : undefined)
  const lines = usageLines(export_, faulty)
  const all = period === undefined ? undefined : daysIn(period)
  const hasDays = all === undefined || lines.some(({ record }) => Object.hasOwn(record, dayColumn))
  assertColumns(lines, [hasDays ? dayColumn : undefined, callsColumn, amountColumn])
  const faults: ConfigFault[] = []
  const notices: string[] = []
  const usage = lines.flatMap(({ record, line }) => {
    const textIn = (column: string | undefined) => (column === undefined ? null : String(record[column] ?? '').trim())
    const [day, calls, amount] = [(hasDays && textIn(dayColumn)) || '', textIn(callsColumn), textIn(amountColumn)]
    if (isTotal(day, record)) {
      notices.push(`line ${line} was skipped: it is a total`)
      return []
    }
    const fault = (path: string, message: string) => void faults.push({ path, message, line, column: 1 })
    const days = daysIn(day) ?? (day === '' ? all : undefined)
    if (!days) fault(dayColumn, `${shown(day)} is not a date: write "2026-06-30", "2026-06" or "2026-06-01/2026-06-30"`)
    const number = (text: string | null) => (text === null ? null : decimalOf(text, decimal))
    // a line of an invoice need not be about calls
    const [callsNumber, amountNumber] = [calls === '' && amount ? null : number(calls), number(amount)]
    if (callsNumber !== null && !isWholeNumber(callsNumber))
      fault(callsColumn as string, `${shown(calls)} is not a whole number${hint(calls, decimal)}`)
    if (amountNumber === undefined)
      fault(amountColumn as string, `${shown(amount)} is not a decimal without currency${hint(amount, decimal)}`)
    const of = { ...(days ?? { from: '', to: '' }), amount: amountNumber ?? null }
    return [isTax(record) ? { ...of, calls: null, isTax: true } : { ...of, calls: callsNumber === null ? null : Number(callsNumber) }]
  })
  if (faults.length > 0) throw faulty(faults)
  const overlap = overlapping(usage)
  if (overlap)
    throw faulty([{ path: dayColumn, message: `"${overlap}" is in two lines of different length, and would count twice: leave one out` }])
  return { usage, notices }
}

function assertColumns(lines: readonly UsageLine[], wanted: readonly (string | undefined)[]): void {
  const [first] = lines
  if (!first) return
  const missing = wanted.filter((column) => column !== undefined && !Object.hasOwn(first.record, column)) as string[]
  if (missing.length === 0) return
  const there = Object.keys(first.record)
    .map((name) => shown(name))
    .join(', ')
  throw faulty(
    missing.map((column) => ({ path: column, message: `there is no such column; there are ${there}: map it`, line: 1, column: 1 })),
  )
}

/** How a number may have been meant that cannot be read. */
function hint(text: string | null, decimal: 'point' | 'comma'): string {
  const other = decimal === 'point' ? 'comma' : 'point'
  return text !== null && decimalOf(text, other) !== undefined
    ? `: if its decimals have a ${other}, say "decimal: ${other}"`
    : ', e.g. "1234.50"'
}

/** The days that a text is about: one, or a time on it, a month, or those from one to another; undefined where the calendar has none such. */
export function daysIn(text: string): { from: string; to: string } | undefined {
  const [, day, month, last] =
    /^(\d{4}-\d{2}-\d{2})(?:[T ]\d.*)?$|^(\d{4}-\d{2})$|^\d{4}-\d{2}-\d{2} ?(?:\/|\.\.|to|-|\u2013) ?(\d{4}-\d{2}-\d{2})$/.exec(text) ?? []
  if (month !== undefined) {
    const first = `${month}-01`
    if (!isDay(first)) return undefined
    const next = new Date(`${first}T00:00Z`)
    next.setUTCMonth(next.getUTCMonth() + 1)
    return { from: first, to: new Date(next.getTime() - 1).toISOString().slice(0, 10) }
  }
  const [from, to] = [text.slice(0, 10), last ?? day ?? '']
  return isDay(from) && isDay(to) && from <= to ? { from, to } : undefined
}

/** A day that the calendar has. */
function isDay(day: string): boolean {
  return !Number.isNaN(Date.parse(`${day}T00:00Z`)) && new Date(`${day}T00:00Z`).toISOString().startsWith(day) && day.length === 10
}

/** Whether a line is a tax, as one of its words says. */
function isTax(record: Readonly<Record<string, unknown>>): boolean {
  return Object.values(record).some((cell) => typeof cell === 'string' && /\b(vat|tax|gst|mwst|ust|tva|iva|mva|moms)\b/i.test(cell))
}

/** A day that lines about different days have in common; undefined where there is none. */
function overlapping(usage: readonly UsageOfDays[]): string | undefined {
  const spans = [...new Map(usage.map((line) => [`${line.from} ${line.to}`, line])).values()].sort((a, b) => (a.from < b.from ? -1 : 1))
  let last = ''
  for (const { from, to } of spans) {
    if (from <= last) return from
    last = to > last ? to : last
  }
  return undefined
}

/** Whether a line adds up others: one with such a word in place of a day, or of all text in it where the day is empty. */
function isTotal(day: string, record: Readonly<Record<string, unknown>>): boolean {
  const isWord = (text: string) => /^(grand |sub)?(total|sum|summe|gesamt|totaux|totale)s?\b/i.test(text)
  return isWord(day) || (day === '' && Object.values(record).some((cell) => typeof cell === 'string' && isWord(cell.trim())))
}

function faulty(faults: readonly ConfigFault[]): ConfigError {
  return new ConfigError(faults, { what: 'the usage export', undone: 'compared' })
}
