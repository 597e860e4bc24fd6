import { writeFileSync } from 'node:fs'
import { type Command, InvalidArgumentError } from 'commander'
import pc from 'picocolors'
import { compileSelector, type EntrySelector } from '../core/entries/selector.js'
import type { StoredEntry } from '../core/entries/stored-entry.js'
import { UsageError } from '../core/errors/setup-errors.js'
import type { Store } from '../core/ports/store.js'
import { readEntries, readEntry } from '../queries/entries.js'
import { entriesText, entryText } from '../render/entries-text.js'
import { printableJson } from '../render/printable.js'
import type { CliContext } from './cli-context.js'
import { momentOf } from './moment.js'
import { addStoreOption, openToRead, type StoreChoice } from './open-store.js'
import { counted, type Progress, withProgress } from './progress.js'
import { addSelectorOptions, type SelectorOptions, selectorOf } from './selector-options.js'
import { knownZone, localZone } from './zone.js'

interface EntriesOptions extends SelectorOptions, StoreChoice {
  readonly sort: Order
  readonly limit: number
  readonly save?: string
  readonly at?: string
  readonly zone?: string
  readonly json?: boolean
}

/** Characters of a line, where nobody says. */
const usualWidth = 80

/** How a list may be sorted: by what, the most first, but keys by their order. */
const orders = {
  key: undefined,
  age: ({ ageMs }: StoredEntry) => ageMs,
  size: ({ bytes }: StoredEntry) => bytes,
  left: ({ freshForMs }: StoredEntry) => freshForMs,
  uses: ({ uses }: StoredEntry) => uses ?? 0,
  saved: ({ saved }: StoredEntry) => Number(saved?.amount ?? 0),
  'last-use': ({ lastUsedAt }: StoredEntry) => lastUsedAt?.getTime() ?? 0,
} as const
type Order = keyof typeof orders

/** `stashen entries`: what is stored, or one stored answer. */
export function addEntries(command: Command, { stdout, stderr }: CliContext): void {
  command.argument('[key]', 'the key of the answer to print')
  addSelectorOptions(addStoreOption(command, 'the store to read'))
    .option('--sort <order>', `by ${Object.keys(orders).join(', ')}`, orderOf, 'key' as Order)
    .option('--limit <number>', 'maximum number of entries', wholeNumber, 50)
    .option('--save <file>', 'write the body of the one answer to this file, as it came')
    .option('--at <moment>', 'the state at this moment, computed from what is stored now (default: now)')
    .option('--zone <zone>', 'print times in this time zone (default: the local one)')
    .option('--json', 'print as JSON')
    .action(async (key: string | undefined, options: EntriesOptions) => {
      const zone = knownZone(options.zone ?? localZone())
      const now = momentOf(options.at, zone)
      const selector = selectorOf(options)
      if (key !== undefined && !compileSelector(selector).isAll)
        throw new UsageError('give a key, or options that select answers, not both')
      if (key === undefined && options.save !== undefined) throw new UsageError('--save writes one answer: give its key')
      const store = await openToRead(options)
      try {
        stdout.write(
          key === undefined
            ? await withProgress(stderr, 'listing what is stored', (progress) =>
                listed(store, selector, options, { now, width: stdout.columns ?? usualWidth, progress }),
              )
            : await printed(store, key, { ...options, now, zone }),
        )
      } finally {
        await store.close()
      }
    })
}

async function listed(
  store: Store,
  selector: EntrySelector,
  { sort, limit, json }: EntriesOptions,
  { now, width, progress }: { now: number; width: number; progress: Progress },
): Promise<string> {
  const by = orders[sort]
  const found: StoredEntry[] = []
  let all = 0
  const of = compileSelector(selector).isAll ? (await store.entries.size()).entries : undefined
  for await (const entry of counted(readEntries(store, selector, now), progress, of)) {
    all++
    if (by || found.length < limit) found.push(entry)
    if (by && found.length > 2 * limit + 1_000) largest(found, by, limit)
  }
  if (by) largest(found, by, limit)
  return json ? `${printableJson({ all, entries: found })}\n` : entriesText(found, { colors: pc, all, width })
}

/** Only so many, the largest first. */
function largest(entries: StoredEntry[], by: (entry: StoredEntry) => number, limit: number): void {
  entries.sort((one, other) => by(other) - by(one))
  entries.length = Math.min(entries.length, limit)
}

async function printed(
  store: Store,
  key: string,
  { now, zone, save, json }: { now: number; zone: string } & Pick<EntriesOptions, 'save' | 'json'>,
): Promise<string> {
  const found = await readEntry(store, key, now)
  if (!found) throw new UsageError(`nothing is stored under "${key}": run "stashen entries" for the keys there are`)
  const { bytes, ...model } = found
  if (save !== undefined) writeFileSync(save, bytes)
  return json ? `${printableJson(model)}\n` : entryText(model, { colors: pc, zone, now })
}

function orderOf(text: string): Order {
  if (!Object.hasOwn(orders, text)) throw new InvalidArgumentError(`give one of ${Object.keys(orders).join(', ')}.`)
  return text as Order
}

function wholeNumber(text: string): number {
  if (!/^[1-9]\d{0,8}$/.test(text)) throw new InvalidArgumentError('give a whole number of at least 1.')
  return Number(text)
}
