import { Command, type Option } from 'commander'
import { UsageError } from '../core/errors/setup-errors.js'
import type { CliContext } from './cli-context.js'

/** A command with the options that it takes. */
interface Completed {
  readonly name: string
  readonly says: string
  readonly options: readonly Option[]
}

/** A command that can be completed. */
interface Completable {
  readonly name: string
  readonly says: string
  load(): Promise<(command: Command, context: CliContext) => void>
}

/** `stashen completion SHELL`: prints what has a shell complete commands and options. */
export function addCompletion(commands: readonly Completable[], command: Command, context: CliContext): void {
  command
    .argument('<shell>', 'bash, zsh or fish')
    .addHelpText(
      'after',
      `
bash: stashen completion bash >> ~/.bashrc
zsh:  stashen completion zsh > a file named _stashen in a folder of $fpath
fish: stashen completion fish > ~/.config/fish/completions/stashen.fish`,
    )
    .action(async (shell: string) => {
      const script = scripts[shell as keyof typeof scripts]
      if (script === undefined || !Object.hasOwn(scripts, shell))
        throw new UsageError(`"${shell}" is no shell that there are completions for: give ${Object.keys(scripts).join(', ')}`)
      const all = await Promise.all(
        commands.map(async ({ name, says, load }): Promise<Completed> => {
          const one = new Command(name)
          ;(await load())(one, context)
          return { name, says, options: one.options }
        }),
      )
      context.stdout.write(script(all))
    })
}

const flags = (options: readonly Option[]) => options.flatMap(({ long, short }) => [long, short].filter((flag) => flag != null))

const scripts = { bash, zsh, fish }

function bash(all: readonly Completed[]): string {
  return `_stashen() {
  local current=\${COMP_WORDS[COMP_CWORD]} options=
  if [ "$COMP_CWORD" -eq 1 ]; then
    COMPREPLY=($(compgen -W "${all.map(({ name }) => name).join(' ')} --help --version" -- "$current"))
    return
  fi
  case \${COMP_WORDS[1]} in
${all.map(({ name, options }) => `    ${name}) options="${[...flags(options), '--help'].join(' ')}" ;;`).join('\n')}
  esac
  if [[ $current == -* ]]; then COMPREPLY=($(compgen -W "$options" -- "$current")); else COMPREPLY=($(compgen -f -- "$current")); fi
}
complete -o filenames -F _stashen stashen
`
}

/** A text within single quotes, for zsh's lists of what to say. */
const quoted = (text: string) => text.replaceAll("'", "'\\''").replaceAll(/[[\]:]/g, '\\$&')

function zsh(all: readonly Completed[]): string {
  const optionOf = ({ long, description, required, optional }: Option) =>
    `'${long}[${quoted(description)}]${required || optional ? ':value:_files' : ''}'`
  return `#compdef stashen
_stashen() {
  local -a commands=(
${all.map(({ name, says }) => `    '${name}:${quoted(says)}'`).join('\n')}
  )
  if (( CURRENT == 2 )); then
    _describe command commands
    return
  fi
  case $words[2] in
${all.map(({ name, options }) => `    ${name}) _arguments ${options.map(optionOf).join(' ')} '*:file:_files' ;;`).join('\n')}
  esac
}
compdef _stashen stashen
`
}

function fish(all: readonly Completed[]): string {
  const text = (words: string) => words.replaceAll('\\', '\\\\').replaceAll("'", "\\'")
  const line = (name: string, { long = '', short, description, required }: Option) =>
    `complete -c stashen -n '__fish_seen_subcommand_from ${name}' -l ${long.replace(/^--/, '')}${short == null ? '' : ` -s ${short.slice(1)}`}${required ? ' -r' : ''} -d '${text(description)}'`
  return `${[
    ...all.map(({ name, says }) => `complete -c stashen -f -n __fish_use_subcommand -a ${name} -d '${text(says)}'`),
    ...all.flatMap(({ name, options }) => options.map((option) => line(name, option))),
  ].join('\n')}\n`
}
