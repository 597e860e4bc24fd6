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
import { type SpokenCall, spokenCall } from '../core/traffic/spoken.js'
import { explainRequest } from '../explain-request.js'
import { printableJson } from '../render/printable.js'
import { trialText } from '../render/trial-text.js'
import { memoryStore } from '../stores/memory/store.js'
import { posting, tryRequest } from '../trial/try-request.js'
import type { CliContext } from './cli-context.js'
import { configOf } from './config-file.js'
import { collect, fieldOf, urlOf } from './request-options.js'

interface TryCommandOptions {
  readonly header: readonly string[]
  readonly body?: string
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
    .argument('<url>', 'the URL of a GET, or of a POST with --body')
    .option('-H, --header <name:value>', 'a header field of the request; may be repeated', collect, [])
    .option('--body <json>', 'what is posted: a query of GraphQL, or a JSON-RPC call that only asks')
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
      const asked = askedBy(options)
      const config = await configFor(url, options, asked)
      const numbers = { times: wholeNumber('--times', options.times), atOnce: wholeNumber('--at-once', options.atOnce) }
      const store = await namedStore(options.store)
      const tried = await tryRequest({ ...{ url, body: options.body, headers: options.header.map(fieldOf), config, store }, ...numbers })
      if (options.json) stdout.write(`${printableJson(tried)}\n`)
      else {
        const { origin, pathname } = new URL(url)
        stdout.write(trialText(tried, { colors: pc, url: `${asked ? 'POST' : 'GET'} ${origin}${pathname}` }))
        stdout.write(pc.dim(`kept in "${options.store}": stashen entries --store ${options.store}\n`))
      }
    })
}

/** The configuration that covers the URL: the one that is found, unless a lifetime is given; else one for this URL alone. */
async function configFor(
  url: string,
  { config: named, freshFor, body }: TryCommandOptions,
  asked: SpokenCall | undefined,
): Promise<StashConfig> {
  if (freshFor === undefined && (named !== undefined || findConfig() !== undefined)) {
    const { config, file } = await configOf(named)
    const { endpoint } = await explainRequest(config, memoryStore(), Date.now(), url, posting(body))
    if (endpoint === null)
      throw new UsageError(
        `no endpoint of "${file}" covers it: see "stashen explain URL", or give --fresh-for 1m to try it without the configuration`,
      )
    return { ...config, journal: undefined } as StashConfig
  }
  const { origin, pathname } = new URL(url)
  const name = camelCase(pathname.split('/').filter((part) => /^[A-Za-z]/.test(part))) || 'root'
  const request = `${asked ? 'POST' : 'GET'} ${pathname.replaceAll(/[{}*]/g, encodeURIComponent)}`
  const fresh = { freshFor: freshFor ?? usualLifetime, staleIfError: '1 day' }
  const endpoint = { request, ...(asked ? spokenRule(asked, fresh, freshFor !== undefined) : fresh) }
  return { providers: { [providerName(origin, [])]: { baseUrl: origin, endpoints: { [name]: endpoint } } } }
}

/** What is asked with --body, which has to be something that only asks: it is sent several times. */
function askedBy({ body }: TryCommandOptions): SpokenCall | undefined {
  if (body === undefined) return undefined
  const asked = spokenCall(body)
  if (!asked)
    throw new UsageError(
      `--body is neither GraphQL nor JSON-RPC 2.0: give e.g. '{"query":"{ tides }"}' or '{"jsonrpc":"2.0","id":1,"method":"eth_chainId"}'`,
    )
  if (asked.isQuery === false)
    throw new UsageError('--body is a mutation or a subscription, which would be sent several times: give a query')
  return asked
}

/** The rule of an endpoint that is tried without a configuration: it speaks what it is asked in. */
function spokenRule({ protocol, operation }: SpokenCall, fresh: object, isSaid: boolean): object {
  if (protocol === 'graphql') return { protocol, ...fresh }
  if (operation === undefined) throw new UsageError('--body is a batch: give one of its calls')
  if (!isSaid)
    throw new UsageError(
      `nothing tells that "${operation}" only asks, and it is sent several times: if it does, say how long it is fresh with --fresh-for`,
    )
  return { protocol, byName: { [operation]: fresh } }
}

function wholeNumber(option: string, text: string): number {
  const number = Number(text)
  if (!Number.isSafeInteger(number) || number < 1 || number > 1_000_000)
    throw new UsageError(`"${text}" is not a number of calls for ${option}: give a whole number from 1 to 1,000,000`)
  return number
}
