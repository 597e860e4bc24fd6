import type { Figures, Without } from '../core/ledger/report-model.js'
import type { Money } from '../core/money/money.js'
import { countText, latencyText, shareText } from './format.js'

/** What a text report tells of each line, beside its name. */
export interface Columns {
  readonly head: readonly string[]
  readonly legend: readonly string[]
  cells(figures: Figures | Without, money: (moneys: readonly Money[]) => string): string[]
  /** By column: whether the figure with the stash is better than without; left out where neither is. */
  readonly isBetter: readonly (((reused: Figures, without: Figures | Without) => boolean) | undefined)[]
}

function isLess(name: 'upstream' | 'refused' | 'failed' | 'errored') {
  return (reused: Figures, without: Figures | Without) => (reused[name] ?? 0) < (without[name] ?? 0)
}

function isQuicker(name: 'median' | 'p95') {
  return ({ latencyMs: reused }: Figures, { latencyMs: without }: Figures | Without) =>
    reused !== null && without !== null && reused[name] < without[name]
}

/** In one currency: of several, none is compared with another. */
function isCheaper({ money: reused }: Figures, { money: without }: Figures | Without): boolean {
  const [one, other] = [reused[0], without[0]]
  return reused.length === 1 && without.length === 1 && Number(one?.amount) < Number(other?.amount)
}

/** For lines of 80 characters. */
export const narrowColumns: Columns = {
  head: ['calls', 'upstream', 'hits', 'errors', 'money', 'median', 'p95'],
  legend: [
    'upstream: calls that reached the provider; hits: share answered from store;',
    'errors: calls that gave their caller an error; median, p95: half of the callers,',
    'and 95 in 100, waited no longer than this',
  ],
  cells(figures, money) {
    const { asked, upstream, errored, latencyMs } = figures
    return [
      countText(asked),
      countText(upstream),
      'fromStore' in figures && figures.fromStore > 0 ? shareText(figures.fromStore, asked) : '-',
      countText(errored),
      money(figures.money),
      latencyMs ? latencyText(latencyMs.median) : '?',
      latencyMs ? latencyText(latencyMs.p95) : '?',
    ]
  },
  isBetter: [undefined, isLess('upstream'), undefined, isLess('errored'), isCheaper, isQuicker('median'), isQuicker('p95')],
}

/** Everything. */
export const wideColumns: Columns = {
  head: ['calls', 'upstream', 'refused', 'failed', 'from store', 'hits', 'stale', 'shared', 'errors', 'money', 'median', 'p95'],
  legend: [
    'upstream: calls that reached the provider; refused, failed: of these, by the provider; from store: fresh responses, and their share (hits); stale: older ones;',
    'shared: by the upstream call of another; errors: callers given one; median, p95: half of the callers, and 95 in 100, waited no longer than this',
  ],
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
  isBetter: [
    ...[undefined, isLess('upstream'), isLess('refused'), isLess('failed'), undefined, undefined, undefined, undefined],
    ...[isLess('errored'), isCheaper, isQuicker('median'), isQuicker('p95')],
  ],
}
