import { existsSync } from 'node:fs'
import { type Command, Option } from 'commander'
import pc from 'picocolors'
import { UsageError } from '../core/errors/setup-errors.js'
import type { Report } from '../core/ledger/report-model.js'
import type { Journal } from '../core/ports/journal.js'
import { readReport } from '../queries/reports.js'
import { comparisonText } from '../render/comparison-text.js'
import { renderCsv, renderHtml, renderMarkdown, renderText } from '../render/index.js'
import { printableJson } from '../render/printable.js'
import { type ReportBy, reportBys } from '../stash.js'
import { fileJournal } from '../stores/journal/file-journal.js'
import type { CliContext } from './cli-context.js'
import { addStoreOption, openToRead, type StoreChoice } from './open-store.js'
import { counted, type Progress, progressOf } from './progress.js'
import { knownZone, localZone } from './zone.js'

interface ReportCommandOptions extends StoreChoice {
  readonly since?: string
  readonly until?: string
  readonly zone?: string
  readonly by?: ReportBy
  readonly journal?: string
  readonly compare?: readonly string[]
  readonly format: Format
  readonly json?: boolean
  readonly wide?: boolean
}

const formats = ['text', 'json', 'csv', 'md', 'html'] as const
type Format = (typeof formats)[number]

/** `stashen report`: what the ledger of a store file says. */
export function addReport(command: Command, { stdout, stderr }: CliContext): void {
  addStoreOption(command, 'the store to read')
    .option('--since <moment>', 'leave out what was before: ISO 8601, or words such as "start of month" and "7 days ago"')
    .option('--until <moment>', 'leave out what came after')
    .option('--zone <zone>', 'print times in this time zone (default: the local one)')
    .addOption(new Option('--by <unit>', 'how calls are grouped: "hour", "day" and "key" besides endpoints').choices(reportBys))
    .option('--journal <file>', 'the journal to group calls by key from')
    .option('--compare <ranges...>', 'compare two times, each "<moment>..<moment>", the earlier first')
    .addOption(new Option('--format <format>', 'how to print it').choices(formats).default('text'))
    .option('--json', 'the same as --format json')
    .option('--wide', 'print every column, in lines of more than 80 characters')
    .action(
      async ({
        since,
        until,
        zone: named = localZone(),
        by,
        journal,
        compare,
        format: wanted,
        json,
        wide,
        ...choice
      }: ReportCommandOptions) => {
        const [zone, format] = [knownZone(named), json ? 'json' : wanted]
        if (compare) {
          stdout.write(await comparison(choice, compare, { zone, format, wide, clashes: since ?? until ?? by, stderr }))
          return
        }
        if (by === 'key' && journal === undefined) throw new UsageError('"--by key" needs the journal of the calls: name it with --journal')
        if (journal !== undefined && by !== 'key') throw new UsageError('"--journal" does nothing without "--by key"')
        const report = await reportOf(choice, { since, until, zone, by: by ?? (format === 'html' ? 'hour' : undefined), journal }, stderr)
        stdout.write(await printed(report, { format, zone, wide }))
      },
    )
}

interface Range {
  readonly since?: string | undefined
  readonly until?: string | undefined
  readonly zone?: string
  readonly by?: ReportBy | undefined
  readonly journal?: string | undefined
}

interface ComparisonOptions {
  readonly zone: string
  readonly format: Format
  readonly wide?: boolean | undefined
  readonly clashes: string | undefined
  readonly stderr: NodeJS.WriteStream
}

/** Two reports, printed side by side. */
async function comparison(
  choice: StoreChoice,
  ranges: readonly string[],
  { zone, format, wide = false, clashes, stderr }: ComparisonOptions,
): Promise<string> {
  if (clashes !== undefined) throw new UsageError('"--compare" says which times are reported: leave out --since, --until and --by')
  if (format !== 'text' && format !== 'json') throw new UsageError(`"--compare" is printed as text or json, not as ${format}`)
  if (ranges.length !== 2)
    throw new UsageError(`"--compare" takes two ranges, not ${ranges.length}: e.g. --compare "14 days ago..7 days ago" "7 days ago..now"`)
  const spans = ranges.map((range): Range => {
    const [since, until, ...more] = range.split('..')
    if (!since || !until || more.length > 0) throw new UsageError(`"${range}" is not a range: write two moments with ".." between them`)
    return { since, until, zone }
  })
  const [before, after] = (await reportsOf(choice, spans, stderr)) as [Report, Report]
  return format === 'json' ? `${printableJson({ before, after })}\n` : comparisonText({ before, after }, { colors: pc, zone, wide })
}

/** Reads a report of a store and changes nothing in it. */
export async function reportOf(choice: StoreChoice, range: Range = {}, stderr: NodeJS.WriteStream = process.stderr): Promise<Report> {
  return (await reportsOf(choice, [range], stderr))[0] as Report
}

async function reportsOf(choice: StoreChoice, ranges: readonly Range[], stderr: NodeJS.WriteStream): Promise<Report[]> {
  for (const { journal } of ranges)
    if (journal !== undefined && !existsSync(journal))
      throw new UsageError(`there is no file "${journal}": name an existing journal with --journal`)
  const store = await openToRead(choice)
  const progress = progressOf(stderr, 'reading the ledger')
  try {
    return await Promise.all(
      ranges.map(({ since, until, zone, by, journal }, i) => {
        const options = { ...(since && { since }), ...(until && { until }), ...(zone && { zone }), ...(by && { by }) }
        const ofJournal = () => {
          progress.stop() // the ledger was read before
          return progressOf(stderr, 'calls of the journal')
        }
        const itsJournal = journal === undefined ? undefined : readWith(fileJournal(journal), ofJournal)
        return readReport(store, Date.now(), options, { journal: itsJournal, onProgress: i === 0 ? progress.at : undefined })
      }),
    )
  } finally {
    progress.stop()
    await store.close()
  }
}

/** A journal that shows how far it was read. */
function readWith(journal: Journal, begin: () => Progress): Pick<Journal, 'read'> {
  return {
    async *read() {
      const progress = begin()
      try {
        yield* counted(journal.read(), progress)
      } finally {
        progress.stop()
      }
    },
  }
}

/** A report, printed; `text` is for people at a terminal. */
export async function printed(
  report: Report,
  { format, zone = localZone(), wide = false }: { format: Format; zone?: string | undefined; wide?: boolean | undefined },
): Promise<string> {
  const known = { zone: knownZone(zone) }
  switch (format) {
    case 'json':
      return `${printableJson(report)}\n`
    case 'csv':
      return renderCsv(report)
    case 'md':
      return renderMarkdown(report, known)
    case 'html':
      return renderHtml(report, known)
    case 'text':
      return renderText(report, { ...known, wide, colors: pc.isColorSupported })
  }
}
