import type { Figures, Without } from '../core/ledger/report-model.js'
import type { Money } from '../core/money/money.js'
import { countText, latencyText, shareText } from './format.js'

/** What a text report tells of each line, beside its name. */
interface Columns {
  readonly head: readonly string[]
  readonly legend: string
  cells(figures: Figures | Without, money: (moneys: readonly Money[]) => string): string[]
}

/** For lines of 80 characters. */
export const narrowColumns: Columns = {
  head: ['asked', 'upstream', 'store', 'errors', 'money', 'median'],
  legend: 'upstream: calls that left; store: share answered from it; errors: failed calls',
  cells(figures, money) {
    const { asked, upstream, errored, latencyMs } = figures
    return [
      countText(asked),
      countText(upstream),
      'fromStore' in figures && figures.fromStore > 0 ? shareText(figures.fromStore, asked) : '-',
      countText(errored),
      money(figures.money),
      latencyMs ? latencyText(latencyMs.median) : '?',
    ]
  },
}

/** Everything. */
export const wideColumns: Columns = {
  head: ['asked', 'upstream', 'refused', 'failed', 'from store', 'share', 'stale', 'shared', 'errors', 'money', 'median', 'p95'],
  legend:
    'upstream: calls that left; refused, failed: of these, by the provider; from store: fresh answers, and their share; stale: older ones; shared: by the call of another; errors: callers given one',
  cells(figures, money) {
    const stored = 'fromStore' in figures ? figures : { fromStore: 0, stale: 0, collapsed: 0 }
    const { asked, upstream, refused, failed, errored, latencyMs } = figures
    return [
      ...[asked, upstream, refused, failed, stored.fromStore].map(countText),
      shareText(stored.fromStore, asked),
      ...[stored.stale, stored.collapsed, errored].map(countText),
      money(figures.money),
      latencyMs ? latencyText(latencyMs.median) : '?',
      latencyMs ? latencyText(latencyMs.p95) : '?',
    ]
  },
}
