import { expect } from 'chai'
import fc from 'fast-check'
import type { PlanOptions, PlanTerms, Report } from 'stashen'
import type { BillingFacts, LedgerRow } from '../src/core/ledger/ledger-row.js'
import { reportOf } from '../src/core/ledger/report.js'
import { Tally } from '../src/core/ledger/tally.js'
import { type EndpointPrices, invoices, type JournalCall } from './support/invoice-oracle.js'

const minute = 60_000
const day = 86_400_000

const zones = ['UTC', 'Europe/Oslo', 'America/St_Johns', 'Pacific/Apia', 'Asia/Kathmandu']
const prices: EndpointPrices = { quote: { perCall: '0.15' }, search: { weight: 5 }, free: { weight: 0 } }

const price = fc.integer({ min: 0, max: 2_000_000 }).map((n) => (n / 1_000_000).toFixed(6).replace(/\.?0+$/, ''))

/** Ways to price calls. */
const callPrices: fc.Arbitrary<PlanTerms> = fc.oneof(
  fc.record({ perCall: price }),
  fc
    .record({
      ends: fc.uniqueArray(fc.integer({ min: 1, max: 60 }), { maxLength: 3 }),
      prices: fc.array(price, { minLength: 4, maxLength: 4 }),
      volume: fc.boolean(),
    })
    .map(({ ends, prices: tierPrices, volume }) => ({
      tiering: volume ? ('volume' as const) : ('graduated' as const),
      tiers: [
        ...ends.sort((a, b) => a - b).map((upTo, i) => ({ upTo, perCall: tierPrices[i] as string })),
        { perCall: tierPrices[3] as string },
      ],
    })),
  fc.record({ of: fc.integer({ min: 1, max: 20 }), price }).map((packages) => ({ packages })),
)

const around: fc.Arbitrary<PlanTerms> = fc.record(
  { baseFee: price, included: fc.integer({ min: 1, max: 40 }), minimum: price, maximum: fc.constant('9.5') },
  { requiredKeys: [] },
)

const plans: fc.Arbitrary<PlanOptions> = fc
  .record({
    terms: callPrices,
    around,
    zone: fc.constantFrom(...zones),
    period: fc.constantFrom('day', 'month', 'month', 'year', { days: 10, from: '2028-01-20' }) as fc.Arbitrary<PlanOptions['period']>,
    anchorDay: fc.constantFrom(1, 15, 29, 30, 31),
    notBilled: fc.subarray(['unmodified', 'clientError', 'refused', 'failed', 'serverError', 'noAnswer'] as const),
    change: fc.option(fc.record({ day: fc.integer({ min: 0, max: 70 }), terms: callPrices, around }), { nil: undefined }),
  })
  .map(({ terms, around: more, period, anchorDay, change, ...rest }) => ({
    ...{ currency: 'EUR', ...terms, ...more, ...rest, period: period as NonNullable<PlanOptions['period']> },
    ...(period === 'month' && { anchorDay }),
    ...(change && {
      changes: [{ from: new Date(begin + change.day * day).toISOString().slice(0, 10), ...change.terms, ...change.around }],
    }),
  }))

/** Ten weeks over a leap day and the changes to summer time of Europe and Newfoundland. */
const begin = Date.parse('2028-01-25T00:00Z')

const journals: fc.Arbitrary<JournalCall[]> = fc.array(
  fc.record({
    at: fc.integer({ min: 0, max: 70 * 24 * 60 * 4 }).map((quarter) => begin + quarter * 15_000),
    endpoint: fc.constantFrom('tides', 'station', 'quote', 'search', 'free'),
    how: fc.constantFrom(
      'answered',
      'answered',
      'answered',
      'unmodified',
      'clientError',
      'refused',
      'serverError',
      'noAnswer',
    ) as fc.Arbitrary<JournalCall['how']>,
  }),
  { minLength: 1, maxLength: 120 },
)

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
