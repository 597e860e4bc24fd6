import type { Imported } from '../core/entries/har.js'
import type { StoredEntry } from '../core/entries/stored-entry.js'
import { ageText, countText, momentText, moneyCells, moneyText } from './format.js'
import { pathsOf, shortened } from './keys-text.js'
import { textTable } from './plain-table.js'
import { printable } from './printable.js'
import type { Colors } from './text-options.js'

/** Characters of a key that are shown at least. */
const leastLength = 16

const legend = (hasSaved: boolean) => `age: since it was made or confirmed; left: how long it is fresh still;
uses: times given since it was stored${hasSaved ? '; saved: the price of the calls these took the place of' : ''};
invalidated: to be confirmed before it is used; --json shows whole keys`

/** Stored answers, as text for a terminal; `all`: how many there are, where these are some of them; `width`: characters of a line. */
export function entriesText(given: readonly StoredEntry[], { colors, all, width }: { colors: Colors; all: number; width: number }): string {
  const entries = printable(given)
  if (entries.length === 0) return 'no stored response matches\n'
  const columns = fitting(columnsOf(entries), width - leastLength)
  const heads = columns.map(({ head }) => head)
  const paths = pathsOf(entries, false).map((path) => shortened(path, Math.max(leastLength, width - widthOf(columns))))
  const aligns = [...heads.map((name) => (name === '' || name === 'layer' ? 'left' : 'right')), 'left'] as ('left' | 'right')[]
  const rows = paths.map((path, i) => [...columns.map(({ cells }) => cells[i] as string), path])
  const table = textTable([...heads, 'key'], rows, { dim: colors.dim, aligns })
  const some = all > entries.length ? `, ${countText(entries.length)} of them shown` : ''
  return `${colors.bold(`${countText(all)} ${all === 1 ? 'answer' : 'answers'}`)}${some}\n\n${table}\n\n${colors.dim(legend(heads.includes('saved')))}\n`
}

interface Column {
  readonly head: string
  readonly cells: readonly string[]
}

/** What a list says of each entry before its key. */
function columnsOf(entries: readonly StoredEntry[]): Column[] {
  const money = moneyCells(entries.flatMap(({ saved }) => saved ?? []))
  const column = (head: string, cell: (entry: StoredEntry) => string): Column => ({ head, cells: entries.map(cell) })
  const all = [
    column('', ({ provider, endpoint }) => `${provider}.${endpoint}`),
    column('code', ({ status }) => (status === null ? '' : String(status))),
    column('bytes', ({ bytes }) => countText(bytes)),
    column('age', ({ ageMs }) => ageText(ageMs)),
    column('left', ({ freshForMs, state }) => (state === 'fresh' ? ageText(freshForMs) : state)),
    column('uses', ({ uses }) => countText(uses ?? 0)),
    column('saved', ({ saved }) => (saved ? money([saved]) : '')),
    column('layer', ({ layer }) => layer ?? ''),
  ]
  return all.filter(({ cells }) => cells.some((cell) => cell !== ''))
}

/** Columns of a narrow list are left out in this order, until the others fit. */
const dispensable = ['layer', 'bytes', 'code', 'saved']

function fitting(columns: readonly Column[], width: number): readonly Column[] {
  const gone = dispensable.find((name) => columns.some(({ head }) => head === name))
  if (widthOf(columns) <= width || gone === undefined) return columns
  return fitting(
    columns.filter(({ head }) => head !== gone),
    width,
  )
}

function widthOf(columns: readonly Column[]): number {
  return columns.reduce((sum, { head, cells }) => sum + 2 + Math.max(head.length, ...cells.map((cell) => cell.length)), 0)
}

/** What is known of one stored answer. */
export interface EntryModel {
  readonly entry: StoredEntry
  readonly fields: readonly (readonly [name: string, value: string])[]
  /** What may be shown of its body; undefined where that is no text. */
  readonly body: string | undefined
}

/** One stored answer with its head and body, as text for a terminal; moments in `zone` (IANA); `now`: when it is looked at. */
export function entryText(given: EntryModel, { colors, zone, now }: { colors: Colors; zone: string; now: number }): string {
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
    ['reuse', reuseText(entry, now)],
    ['kept', `until ${moment(entry.keepUntil)}, and longer while there is room`],
    ...(entry.labels.length > 0 ? [['labels', entry.labels.join(', ')] as [string, string]] : []),
    ['bytes', countText(entry.bytes)],
    ['used', usesText(entry, moment)],
    ...(entry.price ? [['costs', `${moneyText([entry.price])} a call`] as [string, string]] : []),
    ...(entry.layer ? [['layer', entry.layer] as [string, string]] : []),
  ]
  const width = Math.max(...facts.map(([name]) => name.length)) + 2
  const lines = facts.map(([name, value]) => `  ${colors.dim(name.padEnd(width))}${value}`)
  const head = fields.map(([name, value]) => `  ${colors.dim(`${name}:`)} ${value}`)
  const shown =
    body === undefined ? ['  no text: write it to a file with --save FILE'] : given.body?.split('\n').map((line) => `  ${printable(line)}`)
  return `${[colors.bold(entry.key), ...lines, ...(head.length > 0 ? ['', ...head] : []), '', ...(shown ?? [])].join('\n')}\n`
}

/** Whether a call now would be given it, by the rule that it was stored under. */
function reuseText({ state, usableUntil }: StoredEntry, now: number): string {
  if (state === 'fresh') return 'a call now is given it'
  if (state === 'invalidated') return 'a call now asks again, and is given it only if the upstream says that it still holds'
  return usableUntil.getTime() > now ? 'a call now asks again, and is given it if that fails' : 'a call now asks again, and is not given it'
}

function usesText({ uses, lastUsedAt, saved }: StoredEntry, moment: (at: Date) => string): string {
  if (uses === null || lastUsedAt === null) return 'not since it was stored'
  return `${uses === 1 ? 'once' : `${countText(uses)} times`} since it was stored, last ${moment(lastUsedAt)}${saved ? `, which saved ${moneyText([saved])}` : ''}`
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
