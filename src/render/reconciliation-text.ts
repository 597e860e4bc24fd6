import type { ReconciledDay, Reconciliation } from '../core/ledger/reconcile.js'
import { countText } from './format.js'
import { textTable } from './plain-table.js'
import { printable } from './printable.js'
import type { Colors } from './text-options.js'

/** A reconciliation as text for a terminal: a line for each day, and what is left unexplained. */
export function reconciliationText(given: Reconciliation, colors: Colors): string {
  const reconciliation = printable(given)
  const { provider, zone, days, theirs, ours, unexplained, amount } = reconciliation
  const moneyHeads = amount ? ['amount', 'by the plan', 'differs by'] : []
  const head = ['day', `by ${provider}`, 'by the ledger', 'differs by', ...moneyHeads, '']
  const rows = days.map((day) => {
    const money = amount ? [day.amount?.theirs ?? '', day.amount?.ours ?? '', day.amount?.difference ?? ''] : []
    return [day.day, countText(day.theirs), countText(day.ours), signed(day.difference), ...money, verdict(day, colors)]
  })
  const aligns = head.map((_, i) => (i === 0 || i === head.length - 1 ? 'left' : 'right'))
  const sum = `${countText(theirs)} calls by ${provider}, ${countText(ours)} billed by the ledger, in days of ${zone}`
  const end =
    unexplained === 0
      ? colors.green('nothing is unexplained')
      : colors.red(`${countText(unexplained)} calls are unexplained: does somebody else use the key, or are calls made past the stash?`)
  const money = amount
    ? `the amounts are ${amount.theirs} by ${provider}, ${amount.ours} by the plan: they differ by ${amount.difference}\n`
    : ''
  return `${textTable(head, rows, { dim: colors.dim, aligns })}\n\n${sum}: ${end}\n${money}`
}

function verdict({ difference, explained, unexplained }: ReconciledDay, colors: Colors): string {
  if (difference === 0) return colors.green('agrees')
  const parts = explained.map(({ by, calls }) => `${signed(calls)} ${by}`)
  return [
    ...(parts.length > 0 ? [`explained by ${parts.join(', ')}`] : []),
    ...(unexplained === 0 ? [] : [colors.red(`${signed(unexplained)} unexplained`)]),
  ].join('; ')
}

function signed(calls: number): string {
  return calls > 0 ? `+${countText(calls)}` : countText(calls)
}
