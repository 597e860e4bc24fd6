import { forEach, type Steps } from '../steps.js'
import { costsOf, type Known } from './costs.js'
import { compare, counted } from './figures.js'
import type { TallyRow } from './ledger-row.js'
import type { LabelReport } from './report-model.js'

/** What the calls of a provider come to by whose they are, the most of them first; undefined where none was counted apart. */
export function* labelReports(
  facts: Known,
  provider: string,
  rows: readonly TallyRow[],
  time: { readonly since: number; readonly until: number },
): Steps<LabelReport[] | undefined> {
  if (!rows.some(({ tally }) => tally.parts.size > 0)) return undefined
  const over = new Map<TallyRow, number>()
  const apart: TallyRow[] = []
  yield* forEach(rows, (row) => {
    const rest: TallyRow = { ...row, tally: row.tally.rest(), countedFor: null }
    over.set(rest, facts.over.get(row) ?? 0)
    for (const [countedFor, tally] of row.tally.parts) apart.push({ ...row, tally, countedFor })
    apart.push(rest)
  })
  const its = { ...facts, over }
  const costs = yield* costsOf(its, provider, apart, { ...time, lineOf: ({ countedFor = null }) => JSON.stringify(countedFor) })
  const byLabel = new Map<string | null, TallyRow[]>()
  yield* forEach(apart, (row) => {
    if (row.bucket < time.since) return
    const label = row.countedFor ?? null
    const labelled = byLabel.get(label)
    if (labelled) labelled.push(row)
    else byLabel.set(label, [row])
  })
  return [...byLabel]
    .map(([label, labelled]) => ({ label, counts: counted(labelled, its) }))
    .filter(({ counts: { measure, reuse } }) => measure.isUsed || reuse.isUsed)
    .map(({ label, counts }) => ({
      label,
      ...compare(facts.basis, counts, (kind) => costs[kind].byEndpoint.get(JSON.stringify(label)) ?? [], null),
    }))
    .sort((a, b) => b.without.asked - a.without.asked || (String(a.label) < String(b.label) ? -1 : 1))
}
