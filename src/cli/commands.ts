import type { Command } from 'commander'
import type { CliContext } from './cli-context.js'

/** A command, as far as it is known before it is loaded. */
export interface CommandSummary {
  readonly name: string
  /** Its arguments, for the list of commands. */
  readonly takes?: string
  readonly group: string
  readonly says: string
  load(): Promise<(command: Command, context: CliContext) => void>
}

const [begin, read, change] = ['Getting started:', 'Reading a store:', 'Changing a store:']

/** All commands. What they need is loaded when one is called. */
export const commands: readonly CommandSummary[] = [
  {
    ...{ name: 'measure', takes: '<command...>', group: begin },
    says: 'run a Node program as is, and report its HTTP calls and what reuse would have saved',
    load: async () => (await import('./measure-command.js')).addMeasure,
  },
  {
    ...{ name: 'try', takes: '<url>', group: begin },
    says: 'call a URL directly, through a stash, again, expired, with the API down, and many times at once',
    load: async () => (await import('./try-command.js')).addTry,
  },
  {
    ...{ name: 'check', group: begin },
    says: 'check a configuration file, print the effective rules, and warn about likely mistakes',
    load: async () => (await import('./check-command.js')).addCheck,
  },
  {
    ...{ name: 'explain', takes: '<method-or-url> [url]', group: begin },
    says: 'show which endpoint matches a request, its key, what is stored, and what a call would do and why',
    load: async () => (await import('./explain-command.js')).addExplain,
  },
  {
    ...{ name: 'demo', group: begin },
    says: 'simulate a day of calls, with and without the stash, and report',
    load: async () => (await import('./demo-command.js')).addDemo,
  },
  {
    ...{ name: 'report', group: read },
    says: 'print calls, quota, latency and money, with and without the stash',
    load: async () => (await import('./report-command.js')).addReport,
  },
  {
    ...{ name: 'status', group: read },
    says: 'print what is left of each limit, hold-offs, queues, last errors, and the state of the store',
    load: async () => (await import('./status-command.js')).addStatus,
  },
  {
    ...{ name: 'entries', takes: '[key]', group: read },
    says: 'list stored responses, or print one with its headers and body',
    load: async () => (await import('./entries-command.js')).addEntries,
  },
  {
    ...{ name: 'reconcile', takes: '<usage>', group: read },
    says: "compare a provider's own usage export or invoice lines (CSV or JSON) with the ledger, day by day",
    load: async () => (await import('./reconcile-command.js')).addReconcile,
  },
  {
    ...{ name: 'export', group: read },
    says: 'write stored responses as an HTTP Archive (HAR 1.2), without credentials',
    load: async () => (await import('./archive-commands.js')).addExport,
  },
  {
    ...{ name: 'invalidate', group: change },
    says: 'mark stored responses stale: the next call refetches, and the old one stays as a fallback',
    load: async () => (await import('./change-commands.js')).addInvalidate,
  },
  {
    ...{ name: 'purge', group: change },
    says: 'drop stored responses; the counts stay',
    load: async () => (await import('./change-commands.js')).addPurge,
  },
  {
    ...{ name: 'sweep', group: change },
    says: 'drop stored responses that no rule allows to be served any more, before their room is needed',
    load: async () => (await import('./change-commands.js')).addSweep,
  },
  {
    ...{ name: 'warm', takes: '[file]', group: change },
    says: 'fetch responses in advance, paced by the limits, at lower priority than all other calls',
    load: async () => (await import('./warm-command.js')).addWarm,
  },
  {
    ...{ name: 'import', takes: '<file>', group: change },
    says: 'store the responses of an HTTP Archive (HAR 1.2), from "stashen export" or a browser',
    load: async () => (await import('./archive-commands.js')).addImport,
  },
  {
    ...{ name: 'forgive', takes: '<provider>', group: change },
    says: 'forget the pauses, reported limits and hold-offs of a provider, so that its next call goes upstream',
    load: async () => (await import('./forgive-command.js')).addForgive,
  },
  {
    ...{ name: 'completion', takes: '<shell>', group: begin },
    says: 'print a completion script for bash, zsh or fish',
    load: async () => {
      const { addCompletion } = await import('./completion-command.js')
      return (command, context) => addCompletion(commands, command, context)
    },
  },
]
