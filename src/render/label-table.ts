import type { Report } from '../core/ledger/report-model.js'
import type { Money } from '../core/money/money.js'
import { countText } from './format.js'

/** Labels of a provider that are listed one by one, at the most. */
const mostListed = 20

export const labelHeads = ['', 'for', 'asked', 'upstream', 'saved', 'without', 'with']

/** What the calls of each provider come to by whose they are; undefined where none are counted apart. Without fees. */
export function labelTable({ providers }: Report, money: (moneys: readonly Money[]) => string, most = mostListed): string[][] | undefined {
  if (!providers.some(({ labels }) => labels)) return undefined
  return providers.flatMap(({ provider, labels = [] }) => [
    ...labels
      .slice(0, most)
      .map(({ label, without, with: reused, saved }) => [
        provider,
        label ?? '(no label)',
        countText(without.asked),
        countText(reused?.upstream ?? without.upstream),
        saved ? countText(saved.calls) : '-',
        money(without.money),
        reused ? money(reused.money) : '-',
      ]),
    ...(labels.length > most ? [[provider, `and ${countText(labels.length - most)} more`, '', '', '', '', '']] : []),
  ])
}
