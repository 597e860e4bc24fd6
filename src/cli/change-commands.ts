import type { Command } from 'commander'
import { compileSelector } from '../core/entries/selector.js'
import { UsageError } from '../core/errors/setup-errors.js'
import { systemClock, turnsBy } from '../engine/system-clock.js'
import { changeEntries, type EntryChange, sweepEntries } from '../queries/entries.js'
import { countText } from '../render/format.js'
import type { CliContext } from './cli-context.js'
import { addStoreOption, openToRead, openToWrite, type StoreChoice } from './open-store.js'
import { withProgress } from './progress.js'
import { addSelectorOptions, type SelectorOptions, selectorOf } from './selector-options.js'

interface ChangeCommandOptions extends SelectorOptions, StoreChoice {
  readonly dryRun?: boolean
  readonly everything?: boolean
  readonly json?: boolean
}

const done: Readonly<Record<EntryChange, string>> = { invalidate: 'invalidated', purge: 'dropped' }

/** `stashen sweep`. */
export function addSweep(command: Command, { stdout, stderr }: CliContext): void {
  addStoreOption(command, 'the store that the application uses')
    .option('--json', 'print the number as JSON')
    .action(async ({ json, ...choice }: StoreChoice & { json?: boolean }) => {
      const store = await openToWrite(choice)
      try {
        const entries = await withProgress(stderr, 'answers dropped', ({ at }) => sweepEntries(store, systemClock, Date.now(), at))
        stdout.write(json ? `${JSON.stringify({ entries })}\n` : `${answersText(entries)} dropped\n`)
      } finally {
        await store.close()
      }
    })
}

function answersText(entries: number): string {
  return `${countText(entries)} ${entries === 1 ? 'answer' : 'answers'}`
}

/** `stashen invalidate`. */
export function addInvalidate(command: Command, context: CliContext): void {
  addChange('invalidate', command, context)
}

/** `stashen purge`. */
export function addPurge(command: Command, context: CliContext): void {
  addChange('purge', command, context)
}

function addChange(change: EntryChange, command: Command, { stdout, stderr }: CliContext): void {
  addSelectorOptions(addStoreOption(command, 'the store that the application uses'))
    .option('--everything', 'all stored answers, where no other option says which')
    .option('--dry-run', 'only say how many it would be')
    .option('--json', 'print the number as JSON')
    .action(async ({ dryRun = false, everything = false, json, ...options }: ChangeCommandOptions) => {
      const selector = selectorOf(options)
      const { isAll } = compileSelector(selector)
      if (isAll && !everything && !dryRun)
        throw new UsageError(
          `"stashen ${change}" without a selection means every stored answer: say which, or give --everything; --dry-run counts them`,
        )
      if (everything && !isAll) throw new UsageError('--everything means all stored answers: leave it out, or the options that select some')
      const store = await (dryRun ? openToRead : openToWrite)(options)
      try {
        const of = isAll ? (await store.entries.size()).entries : undefined
        const changing = { store, clock: turnsBy(systemClock), now: Date.now(), dryRun }
        const entries = await withProgress(stderr, 'going through what is stored', ({ at }) =>
          changeEntries(change, selector, { ...changing, onProgress: (seen) => at(seen, of) }),
        )
        const what = answersText(entries)
        stdout.write(json ? `${JSON.stringify({ entries, dryRun })}\n` : `${what} ${dryRun ? `would be ${done[change]}` : done[change]}\n`)
      } finally {
        await store.close()
      }
    })
}
