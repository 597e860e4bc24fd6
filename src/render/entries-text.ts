import type { Imported } from '../core/entries/har.js'
import type { StoredEntry } from '../core/entries/stored-entry.js'
import { ageText, countText, momentText } from './format.js'
import { pathsOf, shortened } from './keys-text.js'
import { textTable } from './plain-table.js'
import { printable } from './printable.js'
import type { Colors } from './text-options.js'

/** Characters of a key that are shown at least. */
const leastLength = 16

const legend = `age: since it was made or confirmed; left: how long it is fresh still;
invalidated: to be confirmed before it is used; --json shows whole keys`

/** Stored answers, as text for a terminal; `all`: how many there are, where these are some of them; `width`: characters of a line. */
export function entriesText(given: readonly StoredEntry[], { colors, all, width }: { colors: Colors; all: number; width: number }): string {
  const entries = printable(given)
  if (entries.length === 0) return 'nothing is stored that is meant\n'
  const facts = entries.map(({ provider, endpoint, status, bytes, ageMs, freshForMs, state }) => [
    `${provider}.${endpoint}`,
    status === null ? '' : String(status),
    countText(bytes),
    ageText(ageMs),
    state === 'fresh' ? ageText(freshForMs) : state,
  ])
  const head = ['', 'status', 'bytes', 'age', 'left']
  const taken = head.reduce((sum, name, i) => sum + 2 + Math.max(name.length, ...facts.map((row) => (row[i] as string).length)), 0)
  const paths = pathsOf(entries, false).map((path) => shortened(path, Math.max(leastLength, width - taken)))
  const aligns = ['left', 'right', 'right', 'right', 'right', 'left'] as const
  const rows = facts.map((row, i) => [...row, paths[i] as string])
  const table = textTable([...head, 'key'], rows, { dim: colors.dim, aligns })
  const some = all > entries.length ? `, ${countText(entries.length)} of them shown` : ''
  return `${colors.bold(`${countText(all)} ${all === 1 ? 'answer' : 'answers'}`)}${some}\n\n${table}\n\n${colors.dim(legend)}\n`
}

/** What is known of one stored answer. */
export interface EntryModel {
  readonly entry: StoredEntry
  readonly fields: readonly (readonly [name: string, value: string])[]
  /** What may be shown of its body; undefined where that is no text. */
  readonly body: string | undefined
}

/** One stored answer with its head and body, as text for a terminal; moments in `zone` (IANA). */
export function entryText(given: EntryModel, { colors, zone }: { colors: Colors; zone: string }): string {
  const { entry, fields, body } = printable(given)
  const moment = (at: Date) => momentText(at, zone, 'medium')
  const fresh = entry.state === 'fresh' ? `until ${moment(entry.freshUntil)}, ${ageText(entry.freshForMs)} from now` : entry.state
  const facts: [string, string][] = [
    ['answers', `${entry.provider}.${entry.endpoint}${entry.status === null ? '' : `, status ${entry.status}`}`],
    ['stored', `${moment(entry.storedAt)}, ${ageText(entry.ageMs)} old`],
    ['fresh', fresh],
    [
      'usable',
      `${entry.usableUntil > entry.freshUntil ? `until ${moment(entry.usableUntil)}` : 'no longer than it is fresh'}, if asking again fails`,
    ],
    ['kept', `until ${moment(entry.keepUntil)}, and longer while there is room`],
    ...(entry.labels.length > 0 ? [['labels', entry.labels.join(', ')] as [string, string]] : []),
    ['bytes', countText(entry.bytes)],
  ]
  const width = Math.max(...facts.map(([name]) => name.length)) + 2
  const lines = facts.map(([name, value]) => `  ${colors.dim(name.padEnd(width))}${value}`)
  const head = fields.map(([name, value]) => `  ${colors.dim(`${name}:`)} ${value}`)
  const shown =
    body === undefined ? ['  no text: write it to a file with --save FILE'] : given.body?.split('\n').map((line) => `  ${printable(line)}`)
  return `${[colors.bold(entry.key), ...lines, ...(head.length > 0 ? ['', ...head] : []), '', ...(shown ?? [])].join('\n')}\n`
}

const reasons: Readonly<Record<string, string>> = {
  'no-endpoint': 'no endpoint covers the request',
  'no-body': 'the archive has no body of it',
  'not-http': 'it is no request or answer that can be made',
  'out-of-date': 'a newer answer is stored',
  'not-reusable': 'its rule stores none',
}

/** What became of an archive, as text for a terminal; `isRuled`: whether there were rules to store the answers of others by. */
export function importedText({ stored, notStored }: Imported, isRuled: boolean): string {
  const lines = Object.entries(notStored).map(([why, count]) => {
    const hint = why === 'no-endpoint' && !isRuled ? ': give its rules with --config' : ''
    return `  ${countText(count)} not stored: ${reasons[why] ?? why}${hint}`
  })
  return `${[`${countText(stored)} ${stored === 1 ? 'answer' : 'answers'} stored`, ...lines].join('\n')}\n`
}
