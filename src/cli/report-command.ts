import { existsSync, statSync } from 'node:fs'
import { type Command, Option } from 'commander'
import pc from 'picocolors'
import type { Report } from '../core/ledger/report-model.js'
import type { Store } from '../core/ports/store.js'
import { readReport } from '../engine/read-report.js'
import { drawing } from '../render/html/charts.js'
import { reportHtml } from '../render/html/report-html.js'
import { reportCsv } from '../render/report-csv.js'
import { reportMarkdown } from '../render/report-markdown.js'
import { reportText } from '../render/report-text.js'
import { sqliteStore } from '../stores/sqlite/sqlite-store.js'
import type { Surroundings } from './run.js'
import { UsageError } from './usage-error.js'

interface ReportCommandOptions {
  readonly store: string
  readonly since?: string
  readonly until?: string
  readonly zone?: string
  readonly by?: 'hour' | 'day'
  readonly format: Format
  readonly json?: boolean
}

const formats = ['text', 'json', 'csv', 'md', 'html'] as const
type Format = (typeof formats)[number]

/** `stashen report`: what the ledger of a store file says. */
export function addReport(program: Command, { stdout }: Surroundings): void {
  program
    .command('report')
    .description('print calls, quota, latency and money, with and without the stash')
    .requiredOption('--store <file>', 'the store file to read')
    .option('--since <moment>', 'leave out what was before: ISO 8601, or words such as "start of month" and "7 days ago"')
    .option('--until <moment>', 'leave out what came after')
    .option('--zone <zone>', 'print times in this time zone (default: the local one)')
    .addOption(new Option('--by <unit>', 'tell calls by hours or days too').choices(['hour', 'day']))
    .addOption(new Option('--format <format>', 'how to print it').choices(formats).default('text'))
    .option('--json', 'the same as --format json')
    .action(async ({ store, since, until, zone = localZone(), by, format, json }: ReportCommandOptions) => {
      const report = await reportOfFile(store, { since, until, zone: knownZone(zone), by: by ?? (format === 'html' ? 'hour' : undefined) })
      stdout.write(await printed(report, { format: json ? 'json' : format, zone }))
    })
}

interface Range {
  readonly since?: string | undefined
  readonly until?: string | undefined
  readonly zone?: string
  readonly by?: 'hour' | 'day' | undefined
}

/** Reads the report of a store file and changes nothing in it. */
export async function reportOfFile(file: string, { since, until, zone, by }: Range = {}): Promise<Report> {
  const store = await openToRead(file)
  try {
    return await readReport(store, Date.now(), {
      ...(since && { since }),
      ...(until && { until }),
      ...(zone && { zone }),
      ...(by && { by }),
    })
  } finally {
    await store.close()
  }
}

/** An existing store file, opened only to read. */
export async function openToRead(file: string): Promise<Store> {
  if (!existsSync(file)) throw new UsageError(`there is no file "${file}": name an existing store file with --store`)
  if (!statSync(file).isFile()) throw new UsageError(`"${file}" is not a file: name an existing store file with --store`)
  const store = sqliteStore(file, { readOnly: true })
  await store.open({ now: Date.now(), warn: () => {} })
  return store
}

/** A report, printed; `text` is for people at a terminal. */
export async function printed(
  report: Report,
  { format, zone = localZone() }: { format: Format; zone?: string | undefined },
): Promise<string> {
  switch (format) {
    case 'json':
      return `${JSON.stringify(report, null, 2)}\n`
    case 'csv':
      return reportCsv(report)
    case 'md':
      return reportMarkdown(report, knownZone(zone))
    case 'html':
      return reportHtml(report, { zone: knownZone(zone), draw: await drawing() })
    case 'text':
      return reportText(report, { colors: pc, zone: knownZone(zone) })
  }
}

export function localZone(): string {
  return new Intl.DateTimeFormat().resolvedOptions().timeZone
}

export function knownZone(zone: string): string {
  try {
    return new Intl.DateTimeFormat('en', { timeZone: zone }).resolvedOptions().timeZone
  } catch {
    throw new UsageError(`"${zone}" is no time zone: give an IANA name with --zone, e.g. "Europe/Oslo"`)
  }
}
