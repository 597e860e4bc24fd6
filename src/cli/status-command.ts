import type { Command } from 'commander'
import pc from 'picocolors'
import { systemClock, turnsBy } from '../engine/system-clock.js'
import { readStatus } from '../queries/status.js'
import { printableJson } from '../render/printable.js'
import { statusText } from '../render/status-text.js'
import type { CliContext } from './cli-context.js'
import { momentOf } from './moment.js'
import { addStoreOption, openToRead, type StoreChoice } from './open-store.js'
import { withProgress } from './progress.js'
import { knownZone, localZone } from './zone.js'

interface StatusOptions extends StoreChoice {
  readonly at?: string
  readonly zone?: string
  readonly json?: boolean
}

/** `stashen status`: what limits leave, what is held off, who waits, what went wrong last, and how the store does. */
export function addStatus(command: Command, { stdout, stderr }: CliContext): void {
  addStoreOption(command, 'the store to read')
    .option('--at <moment>', "the state at this moment, computed from today's records (default: now)")
    .option('--zone <zone>', 'print times in this time zone (default: the local one)')
    .option('--json', 'print the status as JSON')
    .action(async ({ at, zone = localZone(), json, ...choice }: StatusOptions) => {
      const known = knownZone(zone)
      const now = momentOf(at, known)
      const store = await openToRead(choice)
      try {
        const byStore = at === undefined ? await store.time?.() : undefined
        const asked = { byStore, endpoints: true, clock: turnsBy(systemClock) }
        const status = await withProgress(stderr, 'counting what is stored', ({ at: onProgress }) =>
          readStatus(store, now, { ...asked, onProgress }),
        )
        stdout.write(json ? `${printableJson(status)}\n` : statusText(status, { colors: pc, zone: known }))
      } finally {
        await store.close()
      }
    })
}
