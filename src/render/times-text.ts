import type { TimeReport } from '../core/ledger/report-model.js'
import type { Money } from '../core/money/money.js'
import { countText, momentText } from './format.js'
import { textTable } from './plain-table.js'
import type { Colors } from './text-options.js'

/** How long the longest bar is, in characters. */
const barLength = 24

/** Calls hour by hour or day by day: those that left for providers as bars, without the stash and with it. */
export function timesText(
  times: readonly TimeReport[],
  {
    colors,
    zone,
    money,
    currency = 'money',
    wide,
  }: { colors: Colors; zone: string; money: (moneys: readonly Money[]) => string; currency: string | undefined; wide: boolean },
): string {
  const most = Math.max(1, ...times.flatMap(({ without, with: reused }) => [without.upstream, reused?.upstream ?? 0]))
  const more = wide ? ['refused', 'failed', 'stale', `${currency} without`] : []
  const head = ['', 'calls', 'upstream', 'without', 'with', ...more, wide ? 'with' : currency]
  const better = (isBetter: boolean, text: string) => (isBetter ? colors.green(text) : text)
  const rows = times.map(({ from, partial, without, with: reused }) => {
    const bars = bar(without.upstream, reused?.upstream, { most, colors, length: wide ? barLength : barLength / 2 })
    const shown = reused ?? without
    return [
      `${momentText(from, zone)}${partial ? ' (part)' : ''}`,
      countText(without.asked),
      bars,
      countText(without.upstream),
      reused ? better(reused.upstream < without.upstream, countText(reused.upstream)) : '',
      ...(wide ? [countText(shown.refused), countText(shown.failed), reused ? countText(reused.stale) : '0', money(without.money)] : []),
      reused ? better(isLess(reused.money, without.money), money(reused.money)) : wide ? '' : money(without.money),
    ]
  })
  const aligns = head.map((_, i) => (i === 0 || i === 2 ? 'left' : 'right'))
  return textTable(head, rows, { dim: colors.dim, aligns })
}

function isLess([one]: readonly Money[], [other]: readonly Money[]): boolean {
  return Number(one?.amount ?? 0) < Number(other?.amount ?? 0)
}

/** What leaves with the stash as full blocks, and what would leave besides without it as light ones. */
function bar(
  without: number,
  reused: number | undefined,
  { most, colors, length: longest }: { readonly most: number; readonly colors: Colors; readonly length: number },
): string {
  const length = (calls: number) => (calls === 0 ? 0 : Math.max(1, Math.round((longest * calls) / most)))
  const full = length(reused ?? without)
  const light = Math.max(0, length(without) - full)
  const solid = '\u2588'.repeat(full)
  return `${reused === undefined ? solid : colors.green(solid)}${'\u2591'.repeat(light)}`
}
