import { parse } from 'csv-parse/sync'
import type { UsageExportOptions } from '../core/endpoints/provider-options.js'
import { ConfigError, type ConfigFault } from '../core/errors/setup-errors.js'
import type { UsageOfDay } from '../core/ledger/reconcile.js'

/**
 * Reads a provider's usage export: CSV (RFC 4180) with a header line, or a JSON array of objects. Throws `ConfigError` with every fault at
 * once, each with its line.
 */
export function parseUsage(text: string, columns: UsageExportOptions = {}): UsageOfDay[] {
  const { day: dayColumn = 'day', amount: amountColumn } = columns
  const callsColumn = columns.calls ?? (amountColumn === undefined ? 'calls' : undefined)
  const records = /^\s*\[/.test(text) ? fromJson(text) : fromCsv(text)
  const known = records[0]?.record ?? {}
  const wanted = [dayColumn, callsColumn, amountColumn].filter((column) => column !== undefined)
  const missing = wanted.filter((column) => records.length > 0 && !Object.hasOwn(known, column))
  if (missing.length > 0) {
    const there = Object.keys(known)
      .map((name) => `"${name}"`)
      .join(', ')
    throw faulty(
      missing.map((column) => ({ path: column, message: `there is no such column; there are ${there}: map it`, line: 1, column: 1 })),
    )
  }
  const faults: ConfigFault[] = []
  const usage = records.map(({ record, line }) => {
    const textIn = (column: string | undefined) => (column === undefined ? null : String(record[column]).trim())
    const [day, calls, amount] = [String(record[dayColumn]).slice(0, 10), textIn(callsColumn), textIn(amountColumn)]
    if (!/^\d{4}-\d{2}-\d{2}$/.test(day))
      faults.push({ path: dayColumn, message: `"${day}" is no date: write "2026-06-30"`, line, column: 1 })
    if (calls !== null && !/^\d+$/.test(calls)) {
      faults.push({
        path: callsColumn as string,
        message: `"${calls}" is not a whole number: write it without separators, e.g. "1234"`,
        line,
        column: 1,
      })
    }
    if (amount !== null && !/^-?\d+(\.\d+)?$/.test(amount)) {
      faults.push({
        path: amountColumn as string,
        message: `"${amount}" is not a decimal: write it with a point and without separators or currency, e.g. "1234.50"`,
        line,
        column: 1,
      })
    }
    return { day, calls: calls === null ? null : Number(calls), amount }
  })
  if (faults.length > 0) throw faulty(faults)
  return usage
}

function faulty(faults: readonly ConfigFault[]): ConfigError {
  return new ConfigError(faults, { what: 'the usage export', undone: 'compared' })
}

interface UsageLine {
  readonly record: Readonly<Record<string, unknown>>
  readonly line: number
}

function fromCsv(text: string): UsageLine[] {
  try {
    const lines = parse(text, { columns: true, info: true, bom: true, trim: true, skip_empty_lines: true }) as {
      record: Record<string, string>
      info: { lines: number }
    }[]
    return lines.map(({ record, info }) => ({ record, line: info.lines }))
  } catch (error) {
    throw faulty([{ path: '', message: `is no CSV: ${error instanceof Error ? error.message : String(error)}` }])
  }
}

function fromJson(text: string): UsageLine[] {
  try {
    return (JSON.parse(text) as Record<string, unknown>[]).map((record, i) => ({ record, line: i + 1 }))
  } catch (error) {
    throw faulty([{ path: '', message: `is not JSON: ${error instanceof Error ? error.message : String(error)}` }])
  }
}
