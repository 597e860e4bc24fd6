import { expect } from 'chai'
import fc from 'fast-check'
import type { Report } from 'stashen'
import type { BillingFacts, LedgerRow } from '../src/core/ledger/ledger-row.js'
import { reportOf } from '../src/core/ledger/report.js'
import { Tally } from '../src/core/ledger/tally.js'
import { invoices, type JournalCall } from './support/invoice-oracle.js'
import { begin, journals, plans, prices } from './support/random-plans.js'

const minute = 60_000
const day = 86_400_000

function rowsOf(journal: readonly JournalCall[]): LedgerRow[] {
  return journal.map(({ at, endpoint, how }) => {
    const tally = new Tally()
    tally.forwarded++
    if (how === 'refused') tally.upRefused++
    else if (how === 'serverError' || how === 'noAnswer') tally.upFailed++
    else tally.upAnswered++
    if (how === 'unmodified') tally.upUnmodified++
    if (how === 'clientError') tally.upClientError++
    if (how === 'serverError') tally.upServerError++
    return { bucket: Math.floor(at / minute) * minute, mode: 'reuse', provider: 'ebbline', endpoint, tally }
  })
}

function factsOf(plan: PlanOptions): BillingFacts[] {
  const since = begin - 365 * day
  return [
    { provider: 'ebbline', endpoint: null, since, plan },
    ...Object.entries(prices).map(([endpoint, own]) => ({ provider: 'ebbline', endpoint, since, price: own })),
  ]
}

const millionths = (amount: string | undefined): bigint => {
  const [whole = '0', decimals = ''] = (amount ?? '0').replace('-', '').split('.')
  return BigInt(whole + decimals.padEnd(6, '0')) * (amount?.startsWith('-') ? -1n : 1n)
}
const spent = (report: Report): bigint => millionths(report.totals.with?.money.find(({ currency }) => currency === 'EUR')?.amount)
const sum = (amounts: readonly bigint[]): bigint => amounts.reduce((total, one) => total + one, 0n)

describe('plans', () => {
  it('cost to the cent what a pencil makes of the journal, for every kind, zone, change and anchor day (property)', () => {
    fc.assert(
      fc.property(plans, journals, (plan, journal) => {
        const report = reportOf({ rows: rowsOf(journal), facts: factsOf(plan), since: 0, until: begin + 100 * day })
        const expected = [...invoices(plan, prices, journal).values()]
        expect(report.providers[0]?.periods.map(({ amount }) => millionths(amount))).to.have.deep.members(expected)
        expect(spent(report)).to.equal(sum(expected))
      }),
      { numRuns: 200 },
    )
  })

  it('are split over endpoints, over parts of the time and over processes so that the parts add up exactly (property)', () => {
    fc.assert(
      fc.property(
        plans,
        journals,
        fc.integer({ min: 0, max: 70 * 24 * 60 }),
        fc.integer({ min: 1, max: 3 }),
        (plan, journal, cut, processes) => {
          const facts = factsOf(plan)
          const rows = rowsOf(journal)
          const whole = reportOf({ rows, facts, since: 0, until: begin + 100 * day })
          const endpoints = whole.providers.flatMap(({ endpoints: lines, fees }) => [
            ...lines.map((line) => millionths(line.with?.money[0]?.amount)),
            millionths(fees.with?.[0]?.amount),
          ])
          expect(sum(endpoints), 'endpoints and fees').to.equal(spent(whole))
          const at = begin + cut * minute
          const parts = [
            reportOf({ rows: rows.filter(({ bucket }) => bucket < at), facts, since: 0, until: begin + 100 * day }),
            reportOf({ rows, facts, since: at, until: begin + 100 * day }),
          ]
          expect(sum(parts.map(spent))).to.equal(spent(whole))
          for (const zone of [plan.zone ?? 'UTC', 'UTC']) {
            const { times = [] } = reportOf({ rows, facts, since: 0, until: begin + 100 * day, times: { by: 'day', zone } })
            expect(sum(times.map((time) => millionths(time.with?.money[0]?.amount)))).to.equal(spent(whole))
            expect(times.reduce((calls, time) => calls + (time.with?.asked ?? 0), 0)).to.equal(journal.length)
            const late = reportOf({ rows, facts, since: at, until: begin + 100 * day, times: { by: 'day', zone } }).times ?? []
            expect(sum(late.map((time) => millionths(time.with?.money[0]?.amount)))).to.equal(spent(parts[1] as Report))
          }
          const merged = rows
            .map((row, i) => ({ ...row, provider: 'ebbline', process: i % processes }))
            .sort((a, b) => a.process - b.process)
          expect(spent(reportOf({ rows: merged, facts, since: 0, until: begin + 100 * day }))).to.equal(spent(whole))
        },
      ),
      { numRuns: 200 },
    )
  })
})
