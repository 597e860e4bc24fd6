import type { KeysReport } from '../core/ledger/keys-report.js'
import { countText, momentText } from './format.js'
import { textTable } from './plain-table.js'
import type { Colors } from './text-options.js'

/** Characters of a key that are shown in wide lines, and at least so many in others. */
const wideLength = 64
const leastLength = 24

/** The keys that saved most calls, as text for a terminal. */
export function keysText(
  { journal, keys, list }: KeysReport,
  { colors, zone, wide }: { colors: Colors; zone: string; wide: boolean },
): string {
  const head = ['', 'saved', 'asked', ...(wide ? ['upstream', 'from store', 'failed'] : []), 'key']
  const names = list.map(({ provider, endpoint }) => `${provider}.${endpoint}`)
  const keyLength = wide ? wideLength : Math.max(leastLength, 56 - Math.max(0, ...names.map((name) => name.length)))
  const paths = pathsOf(list, wide)
  const rows = list.map(({ asked, upstream, fromStore, errored, saved }, i) => {
    const counts = [saved, asked, ...(wide ? [upstream, fromStore, errored] : [])]
    return [names[i] as string, ...counts.map(countText), shortened(paths[i] as string, keyLength)]
  })
  const aligns = head.map((_, i) => (i === 0 || i === head.length - 1 ? 'left' : 'right'))
  const since = journal.since === null ? 'nothing' : `${countText(journal.lines)} lines since ${momentText(journal.since, zone)}`
  const faults = [
    ...(journal.skipped > 0 ? [`${countText(journal.skipped)} could not be read and were skipped`] : []),
    ...(journal.lost > 0 ? [`${countText(journal.lost)} could not be written`] : []),
  ]
  const title = `${colors.bold('Keys')}   ${countText(list.length)} of ${countText(keys)}, by the calls saved\nthe journal holds ${[since, ...faults].join(', ')}`
  return `${title}\n\n${textTable(head, rows, { dim: colors.dim, aligns })}`
}

/** Keys without their host, which is told, and in narrow lines without the caller, where they differ all the same. */
export function pathsOf(
  list: readonly { readonly provider: string; readonly endpoint: string; readonly key: string }[],
  wide: boolean,
): string[] {
  const paths = list.map(({ provider, endpoint, key }) =>
    key
      .replace(/ https?:\/\/[^/ ]+/, ' ')
      .replace(` ${provider}.${endpoint}`, '')
      .replace(/ (caller|body|cookies):([0-9a-f]{6})[0-9a-f]+/g, ' $1:$2'),
  )
  const bare = paths.map((path) => path.replace(/ caller:[0-9a-f]+/, ''))
  return wide ? paths : paths.map((path, i) => (bare.filter((one) => one === bare[i]).length === 1 ? (bare[i] as string) : path))
}

/** Without its middle, where it is too long: what distinguishes keys stands at their ends. */
export function shortened(key: string, length: number): string {
  const ahead = Math.floor((length - 1) / 3)
  return key.length > length ? `${key.slice(0, ahead)}\u2026${key.slice(key.length - (length - 1 - ahead))}` : key
}
