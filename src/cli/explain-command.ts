import type { Command } from 'commander'
import pc from 'picocolors'
import { UsageError } from '../core/errors/setup-errors.js'
import { explainRequest } from '../explain-request.js'
import { explanationText } from '../render/explanation-text.js'
import { printableJson } from '../render/printable.js'
import { memoryStore } from '../stores/memory/store.js'
import type { CliContext } from './cli-context.js'
import { configOf } from './config-file.js'
import { momentOf } from './moment.js'
import { openToRead, storeHelp } from './open-store.js'
import { knownZone, localZone } from './zone.js'

interface ExplainOptions {
  readonly header: readonly string[]
  readonly body?: string
  readonly at?: string
  readonly config?: string
  readonly store?: string
  readonly zone?: string
  readonly json?: boolean
}

/** `stashen explain [METHOD] URL`: what a request would do and why. Calls nothing, changes nothing. */
export function addExplain(program: Command, { stdout }: CliContext): void {
  program
    .command('explain')
    .description('say which endpoint covers a request, its key, what is stored, and what a call would do and why')
    .argument('<method-or-url>', 'a method, or the URL of a GET')
    .argument('[url]', 'the URL, after a method')
    .option('-H, --header <name:value>', 'a header field of the request; may be repeated', collect, [])
    .option('--body <text>', 'the body of the request')
    .option('--at <moment>', 'explain a call at this moment (default: now)')
    .option('--config <file>', 'the configuration file (default: stashen.config.* in this folder)')
    .option('--store <store>', `the store to look into: ${storeHelp} (default: an empty one)`)
    .option('--zone <zone>', 'print times in this time zone (default: the local one)')
    .option('--json', 'print the explanation as JSON')
    .action(async (first: string, second: string | undefined, options: ExplainOptions) => {
      const [method, url] = second === undefined ? ['GET', first] : [first.toUpperCase(), second]
      if (!URL.canParse(url))
        throw new UsageError(`"${url}" is not an absolute URL: give one, e.g. https://tides.ebbline.example/v2/stations`)
      const zone = knownZone(options.zone ?? localZone())
      const now = momentOf(options.at, zone)
      const init = { method, headers: options.header.map(fieldOf), ...(options.body !== undefined && { body: options.body }) }
      const { config } = await configOf(options.config)
      const store = options.store === undefined ? memoryStore() : await openToRead(options)
      try {
        const explanation = await explainRequest(config, store, now, url, init)
        stdout.write(options.json ? `${printableJson(explanation)}\n` : explanationText(explanation, { colors: pc, zone, now }))
      } finally {
        await store.close()
      }
    })
}

function collect(value: string, before: readonly string[]): string[] {
  return [...before, value]
}

function fieldOf(text: string): [string, string] {
  const [, name, value] = /^([^\s:]+):\s*(.*)$/.exec(text) ?? []
  if (name === undefined || value === undefined)
    throw new UsageError(`"${text}" is not a header field: give name and value, e.g. -H "accept-language: no"`)
  return [name, value]
}
