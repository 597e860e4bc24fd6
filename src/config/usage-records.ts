import { parse } from 'csv-parse/sync'
import type { ConfigError, ConfigFault } from '../core/errors/setup-errors.js'
import { shown } from '../core/errors/shown.js'

/** A line of a usage export, by column. */
export interface UsageLine {
  readonly record: Readonly<Record<string, unknown>>
  readonly line: number
}

type Faulty = (faults: readonly ConfigFault[]) => ConfigError

/** The lines of a usage export, whatever its format. */
export function usageLines(given: string | Uint8Array, faulty: Faulty): UsageLine[] {
  const text = (typeof given === 'string' ? given : decoded(given)).replace(/^\ufeff/, '')
  return /^\s*[[{]/.test(text) ? fromJson(text, faulty) : fromCsv(text, faulty)
}

/** Text of bytes: in UTF-16 where they say so, by a byte order mark or zeros, else in UTF-8. */
function decoded(bytes: Uint8Array): string {
  const [first, second] = bytes
  const label =
    (first === 0xff && second === 0xfe) || (second === 0 && first !== 0)
      ? 'utf-16le'
      : (first === 0xfe && second === 0xff) || (first === 0 && second !== 0)
        ? 'utf-16be'
        : 'utf-8'
  return new TextDecoder(label).decode(bytes)
}

function fromCsv(text: string, faulty: Faulty): UsageLine[] {
  try {
    const lines = parse(text, {
      ...{ info: true, trim: true, skip_empty_lines: true, delimiter: delimiterOf(text) },
      columns: (header: string[]) => {
        const twice = header.find((name, i) => name !== '' && header.indexOf(name) < i)
        if (twice !== undefined)
          throw faulty([{ path: twice, message: 'there are two columns of this name: rename one', line: 1, column: 1 }])
        return header
      },
    }) as { record: Record<string, string>; info: { lines: number } }[]
    return lines.map(({ record, info }) => ({ record, line: info.lines }))
  } catch (error) {
    if ((error as Partial<ConfigError>).code === 'CONFIG_INVALID') throw error
    throw faulty([{ path: '', message: `is not CSV: ${error instanceof Error ? error.message : String(error)}` }])
  }
}

/** What separates the names of the header, whichever of the three there is most of outside quotes. */
function delimiterOf(text: string): string {
  const header = (/^[^\r\n]*/.exec(text.trimStart())?.[0] ?? '').replace(/"[^"]*"/g, '')
  const countOf = (sign: string) => header.split(sign).length
  return [',', ';', '\t'].reduce((most, sign) => (countOf(sign) > countOf(most) ? sign : most))
}

function fromJson(text: string, faulty: Faulty): UsageLine[] {
  const records = recordsIn(text)
  if (records instanceof Error) throw faulty([{ path: '', message: `is not JSON: ${records.message}` }])
  const odd = records.findIndex((record) => typeof record !== 'object' || record === null || Array.isArray(record))
  if (odd >= 0) throw faulty([{ path: '', message: `${shown(records[odd])} is not an object`, line: odd + 1, column: 1 }])
  return records.map((record, i) => ({ record: record as Record<string, unknown>, line: i + 1 }))
}

/** Of an array, of `data` in an object, or of JSON Lines. */
function recordsIn(text: string): readonly unknown[] | Error {
  try {
    const value = JSON.parse(text) as unknown
    if (Array.isArray(value)) return value
    const { data } = value as { data?: unknown }
    return Array.isArray(data) ? data : [value]
  } catch (error) {
    try {
      const lines = text.split(/\r?\n/).filter((line) => line.trim() !== '')
      return lines.length > 1 ? lines.map((line) => JSON.parse(line) as unknown) : (error as Error)
    } catch {
      return error as Error
    }
  }
}
