import { Command, CommanderError } from 'commander'
import { ConfigError, UsageError } from '../core/errors/setup-errors.js'
import { isStashenError } from '../core/errors/stashen-error.js'
import { printableJson, printableLines } from '../render/printable.js'
import type { CliContext } from './cli-context.js'
import { commands } from './commands.js'

/** Exit codes of every command. */
const exitCodes = { done: 0, failed: 1, usage: 2 } as const

/** Runs the command line; returns the exit code. Nothing it does ends the process. */
export async function runCli(args: readonly string[], given: Omit<CliContext, 'exitWith'>): Promise<number> {
  const { stdout, stderr, version } = given
  let code: number = exitCodes.done
  const context: CliContext = {
    ...given,
    exitWith(its) {
      code = its
    },
  }
  const program = new Command('stashen')
    .description('Caches third-party API responses and counts what that saves.')
    .version(version, '-V, --version', 'print the version')
    .helpOption('-h, --help', 'print this help')
    .helpCommand(false)
    .enablePositionalOptions()
    .exitOverride()
    .configureOutput({ writeOut: (text) => void stdout.write(text), writeErr: () => {} })
    .addHelpText('after', '\nExit codes: 0 done, 1 failed while running, 2 usage error (unknown option, file missing or not a store).')
  const called = args.find((arg) => !arg.startsWith('-'))
  try {
    for (const { name, takes = '', group, says, load } of commands) {
      if (name === called) (await load())(program.command(name).description(says), context)
      else program.command(`${name} ${takes}`.trim()).description(says).helpGroup(group)
    }
    if (args.length === 0) {
      program.outputHelp()
      return exitCodes.usage
    }
    await program.parseAsync([...args], { from: 'user' })
    return code
  } catch (error) {
    if (error instanceof CommanderError && error.exitCode === 0) return exitCodes.done
    const [exitCode, message] = explain(error)
    const isJson = args.some((arg, i) => arg === '--json' || arg === '--format=json' || (arg === 'json' && args[i - 1] === '--format'))
    stderr.write(isJson ? `${printableJson({ error: { code: codeOf(error), message } })}\n` : `stashen: ${printableLines(message)}\n`)
    return exitCode
  }
}

function explain(error: unknown): [code: number, message: string] {
  if (error instanceof CommanderError) return [exitCodes.usage, usageOf(error)]
  if (error instanceof UsageError || error instanceof ConfigError) return [exitCodes.usage, error.message]
  if (isStashenError(error) && (error.code === 'STORE_UNUSABLE' || error.code === 'USAGE')) return [exitCodes.usage, error.message]
  return [exitCodes.failed, error instanceof Error ? error.message : String(error)]
}

/** The code of an error of ours; what was called wrongly has that of usage. */
function codeOf(error: unknown): string {
  if (isStashenError(error)) return error.code
  return error instanceof CommanderError ? 'USAGE' : 'FAILED'
}

/** Commander's message on one line, ending with what to do next. */
function usageOf({ message }: CommanderError): string {
  const said = message.replace(/^error: /, '').replace(/\s*\n\s*/g, ' ')
  return `${said}${/[.?)]$/.test(said) ? '' : '.'} Run "stashen --help" for what there is.`
}
