import { existsSync, rmSync } from 'node:fs'
import { SingleBar } from 'cli-progress'
import { type Command, InvalidArgumentError } from 'commander'
import { UsageError } from '../core/errors/setup-errors.js'
import type { CliContext, Demo } from './cli-context.js'
import { printed, reportOfFile } from './report-command.js'

interface DemoCommandOptions {
  readonly store: string
  readonly seed: number
  readonly json?: boolean
}

/** `stashen demo`: a day in a made-up harbour office, played twice. */
export function addDemo(program: Command, { stdout, stderr }: CliContext, load: () => Promise<Demo>): void {
  program
    .command('demo')
    .description('play a made-up day of calls, without the stash and with it, and report')
    .option('--store <file>', 'the store file to leave behind; one of an earlier demo is replaced', 'stashen-demo.db')
    .option('--seed <number>', 'another seed, another day; the same seed, the same counts', wholeNumber, 1)
    .option('--json', 'print the report as JSON')
    .action(async ({ store, seed, json }: DemoCommandOptions) => {
      const demo = await load()
      await makeRoom(store, demo)
      const bar = new SingleBar({
        stream: stderr,
        clearOnComplete: true,
        hideCursor: true,
        format: 'playing the day twice {bar} {percentage}%',
      })
      try {
        await demo.run({
          ...{ file: store, seed },
          onStart: (calls) => bar.start(calls, 0),
          onCalls: (calls) => bar.increment(calls),
        })
      } finally {
        bar.stop()
      }
      stdout.write(await printed(await reportOfFile(store), { format: json ? 'json' : 'text', zone: demo.zone }))
      if (!json) stdout.write(nextSteps(store))
    })
}

/** Removes the file of an earlier demo; anything else is left alone. */
async function makeRoom(file: string, demo: Demo): Promise<void> {
  if (!existsSync(file)) return
  const report = await reportOfFile(file)
  const foreign = report.providers.find(({ provider }) => !demo.providers.includes(provider))
  if (foreign)
    throw new UsageError(`"${file}" holds the books of "${foreign.provider}", not of an earlier demo: name another file with --store`)
  for (const ending of ['', '-wal', '-shm', '.calls.jsonl']) rmSync(`${file}${ending}`, { force: true })
}

function nextSteps(file: string): string {
  return `
The store file is ${file}. Try next:
  npx stashen report --store ${file} --since 2026-06-30T14:00+02:00 --until 2026-06-30T15:00+02:00
  npx stashen report --store ${file} --by hour
  npx stashen report --store ${file} --by key --journal ${file}.calls.jsonl
  npx stashen reconcile ${file}.skerrylight-usage.csv --store ${file} --provider skerrylight --mode reuse
`
}

function wholeNumber(text: string): number {
  if (/^\d{1,9}$/.test(text)) return Number(text)
  throw new InvalidArgumentError('Give a whole number, e.g. 7.')
}
