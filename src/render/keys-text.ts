import type { KeysReport } from '../core/ledger/report-model.js'
import { countText, momentText } from './format.js'
import { textTable } from './plain-table.js'
import type { Colors } from './text-options.js'

/** Characters of a key that are shown. */
const shownLength = 64

/** The keys that saved most calls, as text for a terminal. */
export function keysText({ journal, keys, list }: KeysReport, { colors, zone }: { colors: Colors; zone: string }): string {
  const head = ['', 'avoided', 'asked', 'upstream', 'from store', 'failed', 'key']
  const rows = list.map(({ provider, endpoint, key, asked, upstream, fromStore, errored, avoided }) => {
    const path = key
      .replace(/ https?:\/\/[^/ ]+/, ' ')
      .replace(` ${provider}.${endpoint}`, '')
      .replace(/ (caller|body|cookies):([0-9a-f]{6})[0-9a-f]+/g, ' $1:$2') // whose host is told
    const shown = path.length > shownLength ? `${path.slice(0, shownLength - 3)}...` : path
    return [`${provider}.${endpoint}`, ...[avoided, asked, upstream, fromStore, errored].map(countText), shown]
  })
  const aligns = head.map((_, i) => (i === 0 || i === head.length - 1 ? 'left' : 'right'))
  const since = journal.since === null ? 'nothing' : `${countText(journal.lines)} lines since ${momentText(journal.since, zone)}`
  const faults = [
    ...(journal.skipped > 0 ? [`${countText(journal.skipped)} could not be read and were skipped`] : []),
    ...(journal.lost > 0 ? [`${countText(journal.lost)} could not be written`] : []),
  ]
  const title = `${colors.bold('Keys')}   ${countText(list.length)} of ${countText(keys)}, by the calls avoided; the journal holds ${[since, ...faults].join(', ')}`
  return `${title}\n\n${textTable(head, rows, { dim: colors.dim, aligns })}`
}
