import { existsSync, rmSync } from 'node:fs'
import { type Command, InvalidArgumentError } from 'commander'
import pc from 'picocolors'
import { isAddress, nameWithoutPassword, storeForm } from '../config/store-name.js'
import { UsageError } from '../core/errors/setup-errors.js'
import { isStashenError } from '../core/errors/stashen-error.js'
import { latencyText } from '../render/format.js'
import type { CliContext, Demo } from './cli-context.js'
import { withProgress } from './progress.js'
import { printed, reportOf } from './report-command.js'

interface DemoCommandOptions {
  readonly store: string
  readonly seed: number
  readonly json?: boolean
}

/** The store file that the demo leaves behind, where nothing else is said; beside a server, what its other files are named after. */
const usualFile = 'stashen-demo.db'

/** `stashen demo`: a day at a fictional harbour office, simulated twice. */
export function addDemo(command: Command, { stdout, stderr, demo: load }: CliContext): void {
  command
    .option('--store <store>', `the store to leave behind: ${storeForm}; what an earlier demo left there is replaced`, usualFile)
    .option('--seed <number>', 'another seed, another day; the same seed, the same counts', wholeNumber, 1)
    .option('--json', 'print the report as JSON')
    .action(async ({ store, seed, json }: DemoCommandOptions) => {
      const demo = await load()
      const file = isAddress(store) ? usualFile : store
      await (isAddress(store) ? assertOfDemo(store, demo) : makeRoom(store, demo))
      if (!json) {
        const { url, forwardedMs, storedMs } = await demo.sameCall()
        stdout.write(
          `${pc.bold('The same call')}: ${latencyText(forwardedMs)}, then ${latencyText(storedMs)} from store\n${pc.dim(`GET ${url}`)}\n\n`,
        )
      }
      let [played, all] = [0, 0]
      await withProgress(stderr, 'playing the day twice', (progress) =>
        demo.run({
          ...{ store, file, seed },
          onStart: (calls) => {
            all = calls
            progress.at(0, all)
          },
          onCalls: (calls) => {
            played += calls
            progress.at(played, all)
          },
        }),
      )
      stdout.write(await printed(await reportOf({ store }), { format: json ? 'json' : 'text', zone: demo.zone }))
      if (!json) stdout.write(nextSteps(store, file))
    })
}

/** Removes the file of an earlier demo; anything else is left alone. */
async function makeRoom(file: string, demo: Demo): Promise<void> {
  if (!existsSync(file)) return
  await assertOfDemo(file, demo)
  for (const ending of ['', '-wal', '-shm', '.calls.jsonl']) rmSync(`${file}${ending}`, { force: true })
}

async function assertOfDemo(store: string, demo: Demo): Promise<void> {
  const report = await reportOf({ store }).catch((error) => {
    if (isAddress(store) && isStashenError(error) && error.code === 'STORE_UNUSABLE') return undefined // there is none yet
    throw error
  })
  const foreign = report?.providers.find(({ provider }) => !demo.providers.includes(provider))
  if (foreign)
    throw new UsageError(
      `"${nameWithoutPassword(store)}" holds the books of "${foreign.provider}", not of an earlier demo: name another one with --store`,
    )
}

function nextSteps(store: string, file: string): string {
  const shown = nameWithoutPassword(store)
  const named = /[?&]/.test(shown) ? `'${shown}'` : shown
  return `
The store is ${shown}. Try next:
  npx stashen report --store ${named} --by hour
  npx stashen entries --store ${named} --label 'tariff kelpmouth'
  npx stashen reconcile ${file}.skerrylight-usage.csv --store ${named} --provider skerrylight --mode reuse
`
}

function wholeNumber(text: string): number {
  if (/^\d{1,9}$/.test(text)) return Number(text)
  throw new InvalidArgumentError('Give a whole number, e.g. 7.')
}
