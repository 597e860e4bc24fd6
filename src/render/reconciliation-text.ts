import type { ReconciledDays, Reconciliation } from '../core/ledger/reconcile.js'
import { countOf, countText } from './format.js'
import { textTable } from './plain-table.js'
import { printable } from './printable.js'
import type { Colors } from './text-options.js'

/** A reconciliation as text for a terminal: a line for each day, and what is left unexplained. */
export function reconciliationText(given: Reconciliation, colors: Colors): string {
  const reconciliation = printable(given)
  const { provider, zone, days, theirs, ours, amount, from, to, isConsistent, tax, tellsCalls } = reconciliation
  const moneyHeads = amount ? ['amount', 'by the plan', 'differs by'] : []
  const callHeads = tellsCalls ? [`by ${provider}`, 'by the ledger', 'differs by'] : []
  const head = ['days', ...callHeads, ...moneyHeads, '']
  const rows = days.map((day) => {
    const money = amount ? [day.amount?.theirs ?? '', day.amount?.ours ?? '', day.amount?.difference ?? ''] : []
    const calls = tellsCalls ? [countText(day.theirs), countText(day.ours), signed(day.difference)] : []
    return [daysText(day), ...calls, ...money, tellsCalls ? verdict(day, isConsistent, colors) : '']
  })
  const aligns = head.map((_, i) => (i === 0 || i === head.length - 1 ? 'left' : 'right'))
  const span = from === null ? '' : `, from ${from} to ${to}`
  const where = `in days of ${zone}${span}`
  const sum = tellsCalls
    ? `calls    ${countText(theirs)} by ${provider}, ${countText(ours)} billed by the ledger, ${where}: ${callsVerdict(reconciliation, colors)}`
    : `calls    ${countText(ours)} billed by the ledger, ${where}`
  const money = amount
    ? `amounts  ${amount.theirs} by ${provider}, ${amount.ours} by the plan${tax === null ? '' : `, without ${tax} of tax`}: ${Number(amount.difference) === 0 ? colors.green('they agree') : colors.red(`they differ by ${amount.difference}`)}\n`
    : ''
  return `${textTable(head, rows, { dim: colors.dim, aligns })}\n\n${sum}\n${money}`
}

function callsVerdict({ unexplained, shiftHours, zone, theirs, ours, days }: Reconciliation, colors: Colors): string {
  const hours = Math.abs(shiftHours)
  const shift =
    shiftHours === 0
      ? ''
      : ` if its days begin ${hours} ${hours === 1 ? 'hour' : 'hours'} ${shiftHours > 0 ? 'before' : 'after'} those of ${zone}`
  if (unexplained === 0)
    return colors.green(days.every(({ difference }) => difference === 0) ? `they agree${shift}` : `nothing is unexplained${shift}`)
  const why =
    theirs > ours
      ? 'does somebody else use the key, or are calls made past the stash?'
      : 'the ledger has more: is it the right --mode and --zone, are failed calls left off, or is a day missing in the export?'
  return colors.red(`${countOf(unexplained, 'call is', 'calls are')} unexplained: ${why}`)
}

function verdict({ difference, explained, unexplained }: ReconciledDays, isConsistent: boolean, colors: Colors): string {
  if (difference === 0) return colors.green('agrees')
  const parts = explained.map(({ by, calls }) => `${signed(calls)} ${by}`)
  return [
    ...(parts.length > 0 ? [`${isConsistent ? 'explained by' : 'may be'} ${parts.join(', ')}`] : []),
    ...(unexplained === 0 ? [] : [colors.red(`${signed(unexplained)} unexplained`)]),
  ].join('; ')
}

/** A day, or the first and the last of several. */
function daysText({ from, to }: Pick<ReconciledDays, 'from' | 'to'>): string {
  return from === to ? from : `${from} to ${to}`
}

function signed(calls: number): string {
  return calls > 0 ? `+${countText(calls)}` : countText(calls)
}
