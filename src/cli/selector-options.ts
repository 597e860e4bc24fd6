import type { Command } from 'commander'
import type { EntrySelector } from '../core/entries/selector.js'

/** What `addSelectorOptions` adds. */
export interface SelectorOptions {
  readonly provider?: string
  readonly endpoint?: string
  readonly key?: string
  readonly label?: string
  readonly status?: string
  readonly state?: string
  readonly olderThan?: string
  readonly newerThan?: string
}

/** The options of every command that works on some of the stored answers. */
export function addSelectorOptions(command: Command): Command {
  return command
    .option('--provider <name>', 'of this provider')
    .option('--endpoint <name>', 'of this endpoint')
    .option('--key <pattern>', 'with this key, in which * stands for any text')
    .option('--label <label>', 'with this label')
    .option('--status <status>', 'with this status, such as 404 or 4xx')
    .option('--state <state>', 'fresh, stale or invalidated')
    .option('--older-than <duration>', 'older than, e.g. "2 hours"')
    .option('--newer-than <duration>', 'newer than')
}

export function selectorOf({ provider, endpoint, key, label, status, state, olderThan, newerThan }: SelectorOptions): EntrySelector {
  return { provider, endpoint, key, label, status, state: state as EntrySelector['state'], olderThan, newerThan }
}
