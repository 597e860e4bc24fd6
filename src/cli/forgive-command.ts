import type { Command } from 'commander'
import { UsageError } from '../core/errors/setup-errors.js'
import { withEvent } from '../core/limits/provider-events.js'
import { nothingKnown, parseProviderState } from '../core/limits/provider-state.js'
import { changeProvider, recordOf } from '../engine/gate/provider-records.js'
import type { CliContext } from './cli-context.js'
import { openToWrite, storeHelp } from './open-store.js'

/** `stashen forgive`: forgets the pauses, reported limits and hold-offs of a provider. */
export function addForgive(program: Command, { stdout }: CliContext): void {
  program
    .command('forgive')
    .description('forget the pauses, reported limits and hold-offs of a provider, so that its next call leaves')
    .argument('<provider>', 'the provider, e.g. ebbline')
    .requiredOption('--store <store>', `the store that the application uses: ${storeHelp}`)
    .action(async (provider: string, { store: file }: { store: string }) => {
      const store = await openToWrite(file)
      try {
        const now = Date.now()
        if ((await recordOf(store.records, provider, now)) === undefined) {
          throw new UsageError(`"${file}" knows nothing of a provider "${provider}": "stashen status --store ${file}" lists those it knows`)
        }
        await changeProvider(store.records, provider, now, (text) =>
          withEvent(text === undefined ? nothingKnown : parseProviderState(text), { is: 'forgiven', at: now }),
        )
        stdout.write(`forgot pauses, reported limits and hold-offs of ${provider}; its limits, quotas and budgets are as before\n`)
      } finally {
        await store.close()
      }
    })
}
