import type { Command } from 'commander'
import pc from 'picocolors'
import { noDuration } from '../config/schema-parts.js'
import type { StashConfig } from '../config/stash-config.js'
import { storeForm } from '../config/store-name.js'
import { findConfig } from '../config-file/find-config.js'
import { namedStore } from '../config-file/named-store.js'
import { UsageError } from '../core/errors/setup-errors.js'
import { durationMs } from '../core/time/duration.js'
import { camelCase, providerName } from '../core/traffic/name-parts.js'
import { explainRequest } from '../explain-request.js'
import { printableJson } from '../render/printable.js'
import { trialText } from '../render/trial-text.js'
import { memoryStore } from '../stores/memory/store.js'
import { tryRequest } from '../trial/try-request.js'
import type { CliContext } from './cli-context.js'
import { configOf } from './config-file.js'
import { collect, fieldOf, urlOf } from './request-options.js'

interface TryCommandOptions {
  readonly header: readonly string[]
  readonly config?: string
  readonly freshFor?: string
  readonly store: string
  readonly times: string
  readonly atOnce: string
  readonly json?: boolean
}

/** How long answers are fresh where nothing says so. */
const usualLifetime = '1 min'

/** `stashen try URL`: what reuse does for one URL, by calling it. */
export function addTry(command: Command, { stdout }: CliContext): void {
  command
    .argument('<url>', 'the URL of a GET')
    .option('-H, --header <name:value>', 'a header field of the request; may be repeated', collect, [])
    .option('--fresh-for <duration>', `how long the answer is fresh, without a configuration (default: "${usualLifetime}")`)
    .option('--config <file>', 'the configuration file (default: stashen.config.* in this folder or above)')
    .option('--times <number>', 'how often it is called at the end', '100')
    .option('--at-once <number>', 'how many of these at once', '10')
    .option('--store <store>', `where its answer is kept, to look into: ${storeForm}`, 'stashen-try.db')
    .option('--json', 'print what came of it as JSON')
    .addHelpText('after', '\nThree or four calls leave for the provider; the clock is moved on for the one that finds the answer expired.')
    .action(async (given: string, options: TryCommandOptions) => {
      const url = urlOf(given)
      if (options.freshFor !== undefined && durationMs(options.freshFor) === undefined)
        throw new UsageError(`--fresh-for ${noDuration({ input: options.freshFor })}`)
      const config = await configFor(url, options)
      const numbers = { times: wholeNumber('--times', options.times), atOnce: wholeNumber('--at-once', options.atOnce) }
      const store = await namedStore(options.store)
      const tried = await tryRequest({ ...{ url, headers: options.header.map(fieldOf), config, store }, ...numbers })
      if (options.json) stdout.write(`${printableJson(tried)}\n`)
      else {
        const { origin, pathname } = new URL(url)
        stdout.write(trialText(tried, { colors: pc, url: `GET ${origin}${pathname}` }))
        stdout.write(pc.dim(`kept in "${options.store}": stashen entries --store ${options.store}\n`))
      }
    })
}

/** The configuration that covers the URL: the one that is found, unless a lifetime is given; else one for this URL alone. */
async function configFor(url: string, { config: named, freshFor }: TryCommandOptions): Promise<StashConfig> {
  if (freshFor === undefined && (named !== undefined || findConfig() !== undefined)) {
    const { config, file } = await configOf(named)
    const { endpoint } = await explainRequest(config, memoryStore(), Date.now(), url, {})
    if (endpoint === null)
      throw new UsageError(
        `no endpoint of "${file}" covers it: see "stashen explain URL", or give --fresh-for 1m to try it without the configuration`,
      )
    return { ...config, journal: undefined } as StashConfig
  }
  const { origin, pathname } = new URL(url)
  const name = camelCase(pathname.split('/').filter((part) => /^[A-Za-z]/.test(part))) || 'root'
  const request = `GET ${pathname.replaceAll(/[{}*]/g, encodeURIComponent)}`
  const endpoint = { request, freshFor: freshFor ?? usualLifetime, staleIfError: '1 day' }
  return { providers: { [providerName(origin, [])]: { baseUrl: origin, endpoints: { [name]: endpoint } } } }
}

function wholeNumber(option: string, text: string): number {
  const number = Number(text)
  if (!Number.isSafeInteger(number) || number < 1 || number > 1_000_000)
    throw new UsageError(`"${text}" is not a number of calls for ${option}: give a whole number from 1 to 1,000,000`)
  return number
}
