import { existsSync, readFileSync } from 'node:fs'
import { type Command, InvalidArgumentError, Option } from 'commander'
import pc from 'picocolors'
import { daysIn, parseUsage } from '../config/usage-file.js'
import type { UsageExportOptions } from '../core/endpoints/provider-options.js'
import { UsageError } from '../core/errors/setup-errors.js'
import type { Reconciliation } from '../core/ledger/reconcile.js'
import { readReconciliation } from '../queries/reconciliation.js'
import { printableJson } from '../render/printable.js'
import { reconciliationText } from '../render/reconciliation-text.js'
import type { CliContext } from './cli-context.js'
import { configOf } from './config-file.js'
import { addStoreOption, nameOf, openToRead, type StoreChoice } from './open-store.js'
import { withProgress } from './progress.js'
import { knownZone } from './zone.js'

interface ReconcileOptions extends StoreChoice {
  readonly provider: string
  readonly dayColumn?: string
  readonly callsColumn?: string
  readonly amountColumn?: string
  readonly zone?: string
  readonly decimal?: 'point' | 'comma'
  readonly period?: string
  readonly tax: number
  readonly since?: string
  readonly until?: string
  readonly mode: 'all' | 'measure' | 'reuse'
  readonly tolerance: number
  readonly json?: boolean
}

/** `stashen reconcile USAGE`: a provider's own usage export compared with the ledger. */
export function addReconcile(command: Command, { stdout, stderr }: CliContext): void {
  command.argument('<usage>', 'the file of the export')
  addStoreOption(command, 'the store to read', { hasConfig: true })
    .requiredOption('--provider <name>', 'the provider the export is from')
    .option('--config <file>', 'the configuration that names the columns, under "usageExport" of the provider')
    .option('--day-column <name>', 'the column that holds the day (default: "day")')
    .option('--calls-column <name>', 'the column that holds the number of billed calls (default: "calls")')
    .option('--amount-column <name>', 'the column that holds what they cost (default: none)')
    .option(
      '--period <days>',
      'the days that lines without one are about, such as those of an invoice: "2026-06", "2026-06-01/2026-06-30"',
      period,
    )
    .option('--tax <percent>', 'how much tax is in the amounts, in percent', percent, 0)
    .option('--zone <zone>', "time zone of the export's days (default: that of the plan, else UTC)")
    .addOption(new Option('--decimal <sign>', 'decimal separator (default: "point")').choices(['point', 'comma']))
    .option('--since <day>', "the first day to compare (default: the export's first)", day)
    .option('--until <day>', "the last day to compare (default: the export's last)", day)
    .addOption(new Option('--mode <mode>', 'count only calls made in this mode').choices(['all', 'measure', 'reuse']).default('all'))
    .option('--tolerance <percent>', 'unexplained calls, and difference of money, allowed, in percent of theirs', percent, 0)
    .option('--json', 'print the reconciliation as JSON')
    .action(async (file: string, options: ReconcileOptions) => {
      const { provider, mode, tolerance, json } = options
      if (!existsSync(file)) throw new UsageError(`there is no file "${file}": name the usage export of ${provider}`)
      const columns = await columnsOf(options)
      const { usage, notices } = parseUsage(readFileSync(file), columns, options.period)
      for (const notice of notices) stderr.write(`stashen: ${file}: ${notice}\n`)
      const store = await openToRead(options)
      try {
        const zone = columns.zone === undefined ? undefined : knownZone(columns.zone)
        const wanted = {
          provider,
          usage,
          zone,
          mode: mode === 'all' ? undefined : mode,
          tax: options.tax,
          from: options.since,
          to: options.until,
        }
        const result = await withProgress(stderr, 'reading the ledger', ({ at: onProgress }) =>
          readReconciliation(store, Date.now(), { ...wanted, onProgress }),
        )
        if (!result) throw new UsageError(`${nameOf(options)} knows no provider "${provider}": name one with --provider`)
        stdout.write(json ? `${printableJson(result)}\n` : reconciliationText(result, pc))
        assertWithin(result, tolerance)
      } finally {
        await store.close()
      }
    })
}

/** What the configuration says of the columns, and the options over it. */
async function columnsOf({ config: file, provider, ...options }: ReconcileOptions): Promise<UsageExportOptions> {
  const said = file === undefined ? undefined : ((await configOf(file)).config.providers ?? {})
  if (said && !Object.hasOwn(said, provider)) throw new UsageError(`"${file}" knows no provider "${provider}": name one with --provider`)
  const { day, calls, amount, zone, decimal } = {
    ...said?.[provider]?.usageExport,
    ...(options.dayColumn && { day: options.dayColumn }),
    ...(options.callsColumn && { calls: options.callsColumn }),
    ...(options.amountColumn && { amount: options.amountColumn }),
    ...(options.zone && { zone: options.zone }),
    ...(options.decimal && { decimal: options.decimal }),
  }
  return { ...(day && { day }), ...(calls && { calls }), ...(amount && { amount }), ...(zone && { zone }), ...(decimal && { decimal }) }
}

function assertWithin({ provider, unexplained, theirs, amount }: Reconciliation, tolerance: number): void {
  if (unexplained > (theirs * tolerance) / 100) {
    throw new Error(`${unexplained} calls of ${provider} are unexplained, more than the tolerance of ${tolerance} %`)
  }
  if (amount && Math.abs(Number(amount.difference)) > (Math.abs(Number(amount.theirs)) * tolerance) / 100) {
    throw new Error(`the amounts of ${provider} differ by ${amount.difference} in all, more than the tolerance of ${tolerance} %`)
  }
}

function period(text: string): string {
  if (daysIn(text)) return text
  throw new InvalidArgumentError('Give a month or the first and last day, e.g. 2026-06 or 2026-06-01/2026-06-30.')
}

function day(text: string): string {
  if (/^\d{4}-\d{2}-\d{2}$/.test(text) && new Date(`${text}T00:00Z`).toJSON()?.startsWith(text)) return text
  throw new InvalidArgumentError('Give a day, e.g. 2026-06-30.')
}

function percent(text: string): number {
  const number = Number(text)
  if (text.trim() !== '' && number >= 0 && number <= 100) return number
  throw new InvalidArgumentError('Give a number from 0 to 100, e.g. 0.5.')
}
