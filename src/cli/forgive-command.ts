import type { Command } from 'commander'
import { UsageError } from '../core/errors/setup-errors.js'
import { withEvent } from '../core/limits/provider-events.js'
import { nothingKnown, parseProviderState } from '../core/limits/provider-state.js'
import { changeProvider, recordOf } from '../engine/gate/provider-records.js'
import type { CliContext } from './cli-context.js'
import { addStoreOption, nameOf, openToWrite, type StoreChoice } from './open-store.js'

/** `stashen forgive`: forgets the pauses, reported limits and hold-offs of a provider. */
export function addForgive(command: Command, { stdout }: CliContext): void {
  command.argument('<provider>', 'the provider, e.g. ebbline')
  addStoreOption(command, 'the store that the application uses').action(async (provider: string, choice: StoreChoice) => {
    const file = nameOf(choice)
    const store = await openToWrite(choice)
    try {
      const now = (await store.time?.()) ?? Date.now()
      if ((await recordOf(store.records, provider, now)) === undefined) {
        throw new UsageError(`${file} knows nothing of a provider "${provider}": "stashen status" lists those that it knows`)
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
