import { existsSync, statSync } from 'node:fs'
import type { Command } from 'commander'
import pc from 'picocolors'
import type { Report } from '../core/ledger/report-model.js'
import type { Store } from '../core/ports/store.js'
import { readReport } from '../engine/read-report.js'
import { reportText } from '../render/report-text.js'
import { sqliteStore } from '../stores/sqlite/sqlite-store.js'
import type { Surroundings } from './run.js'
import { UsageError } from './usage-error.js'

interface ReportCommandOptions {
  readonly store: string
  readonly since?: string
  readonly until?: string
  readonly zone?: string
  readonly json?: boolean
}

/** `stashen report`: what the ledger of a store file says. */
export function addReport(program: Command, { stdout }: Surroundings): void {
  program
    .command('report')
    .description('print calls, quota, latency and money, with and without the stash')
    .requiredOption('--store <file>', 'the store file to read')
    .option('--since <moment>', 'leave out what was before (ISO 8601)')
    .option('--until <moment>', 'leave out what came after (ISO 8601)')
    .option('--zone <zone>', 'print times in this time zone (default: the local one)')
    .option('--json', 'print the report as JSON')
    .action(async ({ store, since, until, zone, json }: ReportCommandOptions) => {
      stdout.write(printed(await reportOfFile(store, { since, until }), { json, zone }))
    })
}

/** Reads the report of a store file and changes nothing in it. */
export async function reportOfFile(file: string, range: { since?: string | undefined; until?: string | undefined } = {}): Promise<Report> {
  const store = await openToRead(file)
  try {
    return await readReport(store, Date.now(), { ...(range.since && { since: range.since }), ...(range.until && { until: range.until }) })
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

/** The report as JSON or as text for people. */
export function printed(report: Report, { json, zone = localZone() }: { json?: boolean | undefined; zone?: string | undefined }): string {
  return json ? `${JSON.stringify(report, null, 2)}\n` : reportText(report, { colors: pc, zone: knownZone(zone) })
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
