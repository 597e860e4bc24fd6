import type { Command } from 'commander'
import type { EntrySelector } from '../core/entries/selector.js'
import { UsageError } from '../core/errors/setup-errors.js'
import { shown } from '../core/errors/shown.js'

/** What `addSelectorOptions` adds. */
export interface SelectorOptions {
  readonly provider?: string
  readonly endpoint?: string
  readonly key?: string
  readonly arguments?: string
  readonly caller?: string
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
    .option('--arguments <json>', 'of an operation called with these arguments, a list in JSON')
    .option('--caller <digest>', 'the caller digest shown after "caller:" in keys')
    .option('--label <label>', 'with this label')
    .option('--status <status>', 'with this status, such as 404 or 4xx')
    .option('--state <state>', 'fresh, stale or invalidated')
    .option('--older-than <duration>', 'older than, e.g. "2 hours"')
    .option('--newer-than <duration>', 'newer than')
}

export function selectorOf({
  provider,
  endpoint,
  key,
  arguments: args,
  caller,
  label,
  status,
  state,
  olderThan,
  newerThan,
}: SelectorOptions): EntrySelector {
  const common = { provider, endpoint, key, caller, label, status, state: state as EntrySelector['state'], olderThan, newerThan }
  return args === undefined ? common : { ...common, arguments: argumentsOf(args) }
}

function argumentsOf(text: string): unknown[] {
  let list: unknown
  try {
    list = JSON.parse(text)
  } catch {
    // said below
  }
  if (!Array.isArray(list)) throw new UsageError(`--arguments is ${shown(text)}: give a list in JSON, e.g. '["v-201"]'`)
  return list
}
