import { existsSync } from 'node:fs'
import type { Command } from 'commander'
import pc from 'picocolors'
import { isAddress, storeForm } from '../config/store-name.js'
import { findConfig } from '../config-file/find-config.js'
import { isAnswer } from '../core/entries/selector.js'
import { type StoredEntry, storedEntry } from '../core/entries/stored-entry.js'
import { splitAdvice } from '../core/traffic/key-splits.js'
import { explainRequest } from '../explain-request.js'
import { allEntries } from '../queries/entries.js'
import { storedSplits } from '../queries/key-splits.js'
import { entriesText } from '../render/entries-text.js'
import { explanationText } from '../render/explanation-text.js'
import { printable, printableJson } from '../render/printable.js'
import { memoryStore } from '../stores/memory/store.js'
import type { CliContext } from './cli-context.js'
import { configOf } from './config-file.js'
import { momentOf } from './moment.js'
import { openToRead } from './open-store.js'
import { collect, fieldOf, urlOf } from './request-options.js'
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
export function addExplain(command: Command, { stdout }: CliContext): void {
  command
    .argument('<method-or-url>', 'a method, or the URL of a GET')
    .argument('[url]', 'the URL, after a method')
    .option('-H, --header <name:value>', 'a header field of the request; may be repeated', collect, [])
    .option('--body <text>', 'the body of the request')
    .option('--at <moment>', 'explain a call at this moment (default: now)')
    .option('--config <file>', 'the configuration file (default: stashen.config.* in this folder or above)')
    .option('--store <store>', `the store to look into: ${storeForm} (default: the "store" of the configuration)`)
    .option('--zone <zone>', 'print times in this time zone (default: the local one)')
    .option('--json', 'print the explanation as JSON')
    .action(async (first: string, second: string | undefined, options: ExplainOptions) => {
      const [method, url] = second === undefined ? ['GET', first] : [first.toUpperCase(), second]
      urlOf(url)
      const zone = knownZone(options.zone ?? localZone())
      const now = momentOf(options.at, zone)
      const init = { method, headers: options.header.map(fieldOf), ...(options.body !== undefined && { body: options.body }) }
      const isRuled = options.config !== undefined || findConfig() !== undefined
      if (!isRuled && options.store !== undefined) {
        const found = await storedOf(options, { method, url, now })
        const text = entriesText(found, { colors: pc, all: found.length, width: stdout.columns ?? usualWidth })
        const why = pc.dim('there is no configuration here: give --config to see what a call would do')
        stdout.write(options.json ? `${printableJson({ entries: found })}\n` : `${text}\n${why}\n`)
        return
      }
      const { config, store: its } = await configOf(options.config)
      const isThere = options.store !== undefined || typeof its !== 'string' || isAddress(its) || existsSync(its)
      const store = (options.store ?? its) === undefined || !isThere ? memoryStore() : await openToRead(options)
      try {
        const explanation = await explainRequest(config, store, now, url, init)
        const { provider, endpoint } = explanation
        const found = provider !== null && endpoint !== null ? await storedSplits(store, provider, endpoint) : []
        const splits = found.map((split) => splitAdvice(`${provider}.${endpoint}`, split))
        const text = () => [
          explanationText(explanation, { colors: pc, zone, now }),
          ...splits.map((one) => `${pc.yellow('splits keys')}  ${printable(one)}\n`),
        ]
        stdout.write(options.json ? `${printableJson({ ...explanation, splits })}\n` : text().join(''))
      } finally {
        await store.close()
      }
    })
}

const usualWidth = 80

/** What is stored of a URL, whatever its rule; without a query, of that with any. */
async function storedOf(
  options: ExplainOptions,
  { method, url, now }: { method: string; url: string; now: number },
): Promise<StoredEntry[]> {
  const { origin, pathname, search } = new URL(url)
  const base = `${method} ${origin}${pathname}`
  const store = await openToRead(options)
  const found: StoredEntry[] = []
  try {
    for (const selection of search === '' ? [{ under: base }, { path: base }] : [{ under: base + search }])
      for await (const entry of allEntries(store.entries, selection)) {
        if (found.length >= mostFound) break
        if (isAnswer(entry)) found.push(storedEntry(entry, now))
      }
  } finally {
    await store.close()
  }
  return found
}

const mostFound = 50
