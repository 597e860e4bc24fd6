import { parse } from 'csv-parse/sync'
import { ConfigError, type ConfigFault } from '../core/errors.js'
import type { UsageOfDay } from '../core/ledger/reconcile.js'

/** Which columns of a usage export hold what. */
export interface UsageColumns {
  /** Of the day, `YYYY-MM-DD`; a time after it does not count. Default `day`. */
  readonly day?: string
  /** Of the number of calls. Default `calls`. */
  readonly calls?: string
}

/**
 * Reads a provider's usage export: CSV (RFC 4180) with a header line, or a JSON array of objects. Throws `ConfigError` with every fault at
 * once, each with its line.
 */
export function parseUsage(text: string, { day: dayColumn = 'day', calls: callsColumn = 'calls' }: UsageColumns = {}): UsageOfDay[] {
  const records = /^\s*\[/.test(text) ? fromJson(text) : fromCsv(text)
  const known = records[0]?.record ?? {}
  const missing = [dayColumn, callsColumn].filter((column) => records.length > 0 && !Object.hasOwn(known, column))
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
    const [day, calls] = [String(record[dayColumn]).slice(0, 10), String(record[callsColumn]).trim()]
    if (!/^\d{4}-\d{2}-\d{2}$/.test(day))
      faults.push({ path: dayColumn, message: `"${day}" is no date: write "2026-06-30"`, line, column: 1 })
    if (!/^\d+$/.test(calls)) {
      faults.push({
        path: callsColumn,
        message: `"${calls}" is not a whole number: write it without separators, e.g. "1234"`,
        line,
        column: 1,
      })
    }
    return { day, calls: Number(calls) }
  })
  if (faults.length > 0) throw faulty(faults)
  return usage
}

function faulty(faults: readonly ConfigFault[]): ConfigError {
  return new ConfigError(faults, { what: 'the usage export', undone: 'compared' })
}

interface Line {
  readonly record: Readonly<Record<string, unknown>>
  readonly line: number
}

function fromCsv(text: string): Line[] {
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

function fromJson(text: string): Line[] {
  try {
    return (JSON.parse(text) as Record<string, unknown>[]).map((record, i) => ({ record, line: i + 1 }))
  } catch (error) {
    throw faulty([{ path: '', message: `is no JSON: ${error instanceof Error ? error.message : String(error)}` }])
  }
}
