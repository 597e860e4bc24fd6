import { type ChildProcess, spawn } from 'node:child_process'
import { randomBytes } from 'node:crypto'
import { existsSync, mkdtempSync, rmSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import type { Command } from 'commander'
import pc from 'picocolors'
import { storeForm } from '../config/store-name.js'
import { namedStore } from '../config-file/named-store.js'
import { UsageError } from '../core/errors/setup-errors.js'
import { isStashenError } from '../core/errors/stashen-error.js'
import { summaryOf } from '../core/traffic/summary.js'
import { measuredEnv } from '../measure/measure-into.js'
import { ReplayAhead } from '../measure/replay-ahead.js'
import { SeenLines } from '../measure/seen-lines.js'
import { starterConfig, starterYaml } from '../measure/starter-config.js'
import { openStash } from '../open-stash.js'
import { countOf } from '../render/format.js'
import { printableJson } from '../render/printable.js'
import { trafficText } from '../render/traffic-text.js'
import type { CliContext } from './cli-context.js'
import { withProgress } from './progress.js'

interface MeasureOptions {
  readonly store: string
  readonly write?: string
  readonly json?: boolean
}

/** How often what was seen is read, and the line that says so renewed, milliseconds. */
const readEveryMs = 15
const lineEveryMs = 250

/** Characters of that line, at the most. */
const longestLine = 60

/** `stashen measure -- COMMAND`: what HTTP calls a program makes, and what reuse would have saved. Reuses and changes nothing. */
export function addMeasure(command: Command, { stderr, exitWith }: CliContext): void {
  command
    .argument('<command...>', 'the program, after "--": -- node app.js')
    .option('--store <store>', `where its calls are counted, for "stashen report": ${storeForm}`, 'stashen-measure.db')
    .option('--write <file>', 'write a first configuration for what was seen, e.g. stashen.config.yaml')
    .option('--json', 'print what was seen as JSON')
    .addHelpText(
      'after',
      '\nWhat was seen is printed to the standard error: the standard output and the exit code are those of the program.',
    )
    .passThroughOptions()
    .action(async (command: string[], options: MeasureOptions) => {
      if (options.write !== undefined && existsSync(options.write))
        throw new UsageError(`"${options.write}" exists: name another file for --write, or move it away first`)
      const uncounted = await whyUncounted(options.store)
      const folder = mkdtempSync(join(tmpdir(), 'stashen-measure-'))
      try {
        const [lines, ahead] = [new SeenLines(folder), new ReplayAhead()]
        exitWith(await run(command, folder, lines, { stderr, ahead: uncounted === undefined ? ahead : undefined }))
        lines.read()
        const summary = summaryOf(lines.calls)
        stderr.write(options.json ? `${printableJson(summary)}\n` : `\n${trafficText(summary, { colors: pc })}`)
        for (const [origin, count] of lines.unseen)
          stderr.write(`stashen: ${countOf(count, 'connection')} to ${origin} went through node:http2, whose calls are not measured\n`)
        if (summary.calls === 0) return
        if (options.write !== undefined) {
          writeFileSync(options.write, starterYaml(summary), { flag: 'wx' })
          stderr.write(`\n"${options.write}" is written: read its lifetimes, then "stashen check --config ${options.write}"\n`)
        }
        if (uncounted !== undefined) {
          stderr.write(`stashen: no ledger is written: ${uncounted}\n`)
          return
        }
        const store = await namedStore(options.store)
        await withProgress(stderr, 'writing the ledger', ({ at }) => ahead.finish(lines.calls, starterConfig(summary), store, at))
        stderr.write(`${pc.dim(`counted in "${options.store}": stashen report --store ${options.store}`)}\n`)
      } finally {
        rmSync(folder, { recursive: true, force: true })
      }
    })
}

/** What is wrong with the store is told before anything runs; where only its package is missing, returns what is said of that. */
async function whyUncounted(store: string): Promise<string | undefined> {
  try {
    await (await openStash({ mode: 'measure', store: await namedStore(store) })).close()
    return undefined
  } catch (error) {
    if (isStashenError(error) && error.code === 'PACKAGE_MISSING') return error.message
    throw error
  }
}

/** Runs the program until it ends; returns its exit code. */
async function run(
  command: readonly string[],
  folder: string,
  lines: SeenLines,
  { stderr, ahead }: { readonly stderr: NodeJS.WriteStream; readonly ahead: ReplayAhead | undefined },
): Promise<number> {
  const [file = '', ...args] = command
  const preload = new URL('../measure/observe-program.js', import.meta.url)
  const env = measuredEnv(process.env, { folder, salt: randomBytes(16).toString('hex') }, preload)
  const child = spawn(file, args, { stdio: 'inherit', env })
  const passOn = (signal: NodeJS.Signals) => child.kill(signal)
  const signals = ['SIGINT', 'SIGTERM', 'SIGHUP'] as const
  for (const signal of signals) process.on(signal, passOn)
  const reading = setInterval(() => {
    lines.read()
    void ahead?.step(lines.calls)
  }, readEveryMs)
  const showing = stderr.isTTY ? setInterval(() => showLine(lines, stderr), lineEveryMs) : undefined
  try {
    return await exitOf(child, file)
  } finally {
    clearInterval(reading)
    clearInterval(showing)
    if (showing) clearTheLine(stderr)
    await ahead?.stop()
    for (const signal of signals) process.off(signal, passOn)
  }
}

function exitOf(child: ChildProcess, file: string): Promise<number> {
  return new Promise((resolve, reject) => {
    child.once('error', (cause) =>
      reject(new UsageError(`"${file}" cannot be run: ${cause.message}. Give a command after "--": -- node app.js`, { cause })),
    )
    child.once('exit', (code, signal) => resolve(code ?? 128 + (signal === 'SIGINT' ? 2 : signal === 'SIGKILL' ? 9 : 15)))
  })
}

function showLine(lines: SeenLines, stderr: NodeJS.WriteStream): void {
  const { calls, repeats, waitedMs } = lines
  const { columns = 80 } = stderr
  const line =
    `stashen: ${countOf(calls.length, 'call')}, ${countOf(repeats, 'repeat')}, ${(waitedMs / 1_000).toFixed(1)} s waited`.padStart(
      longestLine,
    )
  stderr.write(atTheRight(line.slice(0, columns - 1), columns))
}

/** A text at the right end of the line that the program writes on, which goes on where it was. */
function atTheRight(text: string, columns: number): string {
  return `\u001b7\u001b[${columns - text.length}G${text}\u001b8`
}

function clearTheLine(stderr: NodeJS.WriteStream): void {
  const { columns = 80 } = stderr
  stderr.write(atTheRight(' '.repeat(Math.min(longestLine, columns - 1)), columns))
}
