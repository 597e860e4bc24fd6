import { existsSync, readFileSync } from 'node:fs'
import { type Command, InvalidArgumentError, Option } from 'commander'
import pc from 'picocolors'
import { parseUsage } from '../config/usage-file.js'
import { factsInForce } from '../core/ledger/facts-in-force.js'
import { reconcile } from '../core/ledger/reconcile.js'
import { readRows } from '../engine/ledger-rows.js'
import { reconciliationText } from '../render/reconciliation-text.js'
import { knownZone, openToRead } from './report-command.js'
import type { Surroundings } from './run.js'
import { UsageError } from './usage-error.js'

interface ReconcileOptions {
  readonly store: string
  readonly provider: string
  readonly dayColumn: string
  readonly callsColumn: string
  readonly zone?: string
  readonly mode: 'all' | 'measure' | 'reuse'
  readonly tolerance: number
  readonly json?: boolean
}

/** `stashen reconcile USAGE`: a provider's own usage export held against the ledger. */
export function addReconcile(program: Command, { stdout }: Surroundings): void {
  program
    .command('reconcile')
    .description("hold a provider's own usage export (CSV or JSON, a line a day) against the ledger, day by day")
    .argument('<usage>', 'the file of the export')
    .requiredOption('--store <file>', 'the store file to read')
    .requiredOption('--provider <name>', 'whose export it is')
    .option('--day-column <name>', 'the column that holds the day', 'day')
    .option('--calls-column <name>', 'the column that holds the number of billed calls', 'calls')
    .option('--zone <zone>', "time zone of the export's days (default: that of the plan, else UTC)")
    .addOption(new Option('--mode <mode>', 'count only calls made in this mode').choices(['all', 'measure', 'reuse']).default('all'))
    .option('--tolerance <percent>', 'unexplained calls allowed, in percent of theirs', percent, 0)
    .option('--json', 'print the reconciliation as JSON')
    .action(async (file: string, options: ReconcileOptions) => {
      const { store: path, provider, mode, tolerance, json } = options
      if (!existsSync(file)) throw new UsageError(`there is no file "${file}": name the usage export of ${provider}`)
      const usage = parseUsage(readFileSync(file, 'utf8'), { day: options.dayColumn, calls: options.callsColumn })
      const store = await openToRead(path)
      try {
        const facts = await store.readFacts()
        if (!facts.some((one) => one.provider === provider))
          throw new UsageError(`"${path}" knows no provider "${provider}": name one with --provider`)
        const plan = factsInForce(facts).plan(provider, Date.now())
        const zone = knownZone(options.zone ?? plan?.zone ?? 'UTC')
        const all = await readRows(store, { since: 0, until: Number.MAX_SAFE_INTEGER, cuts: [], finest: 'hour' })
        const rows = all.filter((row) => row.provider === provider && (mode === 'all' || row.mode === mode))
        const result = reconcile({ provider, usage, rows, plan: plan ?? {}, zone })
        stdout.write(json ? `${JSON.stringify(result, null, 2)}\n` : reconciliationText(result, pc))
        if (result.unexplained > (result.theirs * tolerance) / 100) {
          throw new Error(`${result.unexplained} calls of ${provider} are unexplained, more than the tolerance of ${tolerance} %`)
        }
      } finally {
        await store.close()
      }
    })
}

function percent(text: string): number {
  const number = Number(text)
  if (text.trim() !== '' && number >= 0 && number <= 100) return number
  throw new InvalidArgumentError('Give a number from 0 to 100, e.g. 0.5.')
}
