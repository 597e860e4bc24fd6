import { Command, CommanderError } from 'commander'
import { ConfigError, UsageError } from '../core/errors/setup-errors.js'
import { isStashenError } from '../core/errors/stashen-error.js'
import { printableLines } from '../render/printable.js'
import { addExport, addImport } from './archive-commands.js'
import { addChanges, addSweep } from './change-commands.js'
import { addCheck } from './check-command.js'
import type { CliContext } from './cli-context.js'
import { addDemo } from './demo-command.js'
import { addEntries } from './entries-command.js'
import { addExplain } from './explain-command.js'
import { addForgive } from './forgive-command.js'
import { addMeasure } from './measure-command.js'
import { addReconcile } from './reconcile-command.js'
import { addReport } from './report-command.js'
import { addStatus } from './status-command.js'
import { addTry } from './try-command.js'
import { addWarm } from './warm-command.js'

/** Exit codes of every command. */
const exitCodes = { done: 0, failed: 1, usage: 2 } as const

/** Runs the command line; returns the exit code. Nothing it does ends the process. */
export async function runCli(args: readonly string[], context: CliContext): Promise<number> {
  const { stdout, stderr, version, demo } = context
  const program = new Command('stashen')
    .description('Looks into the stash of your third-party API calls.')
    .version(version, '-V, --version', 'print the version')
    .helpOption('-h, --help', 'print this help')
    .helpCommand(false)
    .enablePositionalOptions()
    .exitOverride()
    .configureOutput({ writeOut: (text) => void stdout.write(text), writeErr: () => {} })
    .addHelpText('after', '\nExit codes: 0 done, 1 failed while running, 2 called wrongly (unknown option, missing or foreign file).')
  let code: number = exitCodes.done
  addMeasure(program, context, (its) => {
    code = its
  })
  addTry(program, context)
  addDemo(program, context, demo)
  addReport(program, context)
  addReconcile(program, context)
  addStatus(program, context)
  addForgive(program, context)
  addEntries(program, context)
  addChanges(program, context)
  addSweep(program, context)
  addWarm(program, context)
  addExport(program, context)
  addImport(program, context)
  addExplain(program, context)
  addCheck(program, context)
  try {
    if (args.length === 0) {
      program.outputHelp()
      return exitCodes.usage
    }
    await program.parseAsync([...args], { from: 'user' })
    return code
  } catch (error) {
    if (error instanceof CommanderError && error.exitCode === 0) return exitCodes.done
    const [exitCode, message] = explain(error)
    stderr.write(`stashen: ${printableLines(message)}\n`)
    return exitCode
  }
}

function explain(error: unknown): [code: number, message: string] {
  if (error instanceof CommanderError) return [exitCodes.usage, usageOf(error)]
  if (error instanceof UsageError || error instanceof ConfigError) return [exitCodes.usage, error.message]
  if (isStashenError(error) && (error.code === 'STORE_UNUSABLE' || error.code === 'USAGE')) return [exitCodes.usage, error.message]
  return [exitCodes.failed, error instanceof Error ? error.message : String(error)]
}

/** Commander's message on one line, ending with what to do next. */
function usageOf({ message }: CommanderError): string {
  const said = message.replace(/^error: /, '').replace(/\s*\n\s*/g, ' ')
  return `${said}${/[.?)]$/.test(said) ? '' : '.'} Run "stashen --help" for what there is.`
}
