import { existsSync, readFileSync } from 'node:fs'
import { type Command, InvalidArgumentError } from 'commander'
import { UsageError } from '../core/errors/setup-errors.js'
import type { Journal } from '../core/ports/journal.js'
import { jsonOf } from '../core/rules/json-of.js'
import type { WarmRequest } from '../engine/http/warm-request.js'
import { openStash } from '../open-stash.js'
import { warmText } from '../render/warm-text.js'
import { fileJournal } from '../stores/journal/file-journal.js'
import type { CliContext } from './cli-context.js'
import { configOf } from './config-file.js'
import { addStoreOption, newStore, type StoreChoice } from './open-store.js'
import { withProgress } from './progress.js'
import { knownZone, localZone } from './zone.js'

interface WarmCommandOptions extends StoreChoice {
  readonly renew?: string | true
  readonly atOnce?: number
  readonly header: Readonly<Record<string, string>>
  readonly mostUsed?: number
  readonly journal?: string
  readonly since?: string
  readonly zone?: string
  readonly json?: boolean
}

/** `stashen warm [FILE]`. */
export function addWarm(command: Command, { stdout, stderr }: CliContext): void {
  command.argument('[file]', 'URLs, one a line, or JSON Lines with "url", "method", "headers", "body"; - for standard input')
  addStoreOption(command, 'the store that the application uses', { hasConfig: true })
    .option('--config <file>', 'the configuration file (default: stashen.config.* in this folder or above)')
    .option('--renew [duration]', 'renew fresh answers too: all, or those stored so long ago')
    .option('--at-once <number>', 'calls under way at once (default: 4)', wholeNumber)
    .option('-H, --header <name:value>', 'a header field of every request, such as a credential; may be repeated', addHeader, {})
    .option('--most-used <number>', 'the URLs asked for most, by --journal, in place of a file', wholeNumber)
    .option('--journal <file>', 'the journal of the application')
    .option('--since <moment>', 'what the journal has from this moment on')
    .option('--zone <zone>', 'the time zone of that (default: the local one)')
    .option('--json', 'print the summary as JSON')
    .action(async (file: string | undefined, options: WarmCommandOptions) => {
      const { renew, atOnce, mostUsed, journal, since, zone, json, header: headers } = options
      if ((file === undefined) === (mostUsed === undefined))
        throw new UsageError('give a file of URLs (or -), or --most-used with --journal')
      if (mostUsed !== undefined && (journal === undefined || !existsSync(journal)))
        throw new UsageError(
          `--most-used needs --journal with an existing file${journal === undefined ? '' : `: there is no "${journal}"`}`,
        )
      const requests = file === undefined ? [] : requestsIn(file)
      const { config } = await configOf(options.config)
      const warnings: string[] = []
      const read = journal === undefined ? {} : { journal: onlyRead(fileJournal(journal)) }
      const stash = await openStash({ ...config, ...read, store: await newStore(options), warn: (message) => void warnings.push(message) })
      try {
        const all =
          mostUsed === undefined ? requests : await stash.mostUsed({ count: mostUsed, since, zone: knownZone(zone ?? localZone()) })
        const summary = await withProgress(stderr, 'warming', ({ at }) =>
          stash.warm(all, {
            ...{ renew, atOnce, headers },
            onProgress: ({ done, of, leftMs }) => at(done, of ?? undefined, leftMs ?? undefined),
          }),
        )
        stdout.write(json ? `${JSON.stringify(summary)}\n` : warmText(summary, warnings))
      } finally {
        await stash.close()
      }
    })
}

/** A journal of another process, which has nothing written to it. */
function onlyRead(journal: Journal): Journal {
  return { write() {}, read: () => journal.read(), close() {} }
}

function requestsIn(file: string): WarmRequest[] {
  if (file !== '-' && !existsSync(file)) throw new UsageError(`there is no file "${file}": name a file of URLs`)
  const lines = readFileSync(file === '-' ? 0 : file, 'utf8')
    .replace(/^\ufeff/, '')
    .split('\n')
  return lines.flatMap((line, i): WarmRequest[] => {
    const text = line.trim()
    if (text === '') return []
    if (!text.startsWith('{')) {
      if (!URL.canParse(text)) throw new UsageError(`line ${i + 1} of "${file}" is not an absolute URL: ${text.slice(0, 80)}`)
      return [text]
    }
    try {
      return [jsonOf(text, `line ${i + 1} of "${file}"`) as WarmRequest]
    } catch (cause) {
      throw new UsageError((cause as Error).message, { cause })
    }
  })
}

function addHeader(text: string, before: Readonly<Record<string, string>>): Record<string, string> {
  const [, name, value] = /^([^\s:]+):\s*(.*)$/.exec(text) ?? []
  if (name === undefined || value === undefined) throw new InvalidArgumentError('give name and value, e.g. -H "accept-language: no".')
  return { ...before, [name]: value }
}

function wholeNumber(text: string): number {
  if (!/^[1-9]\d{0,5}$/.test(text)) throw new InvalidArgumentError('give a whole number of at least 1.')
  return Number(text)
}
