import { expect } from 'chai'
import { parse } from 'csv-parse/sync'
import fc from 'fast-check'
import type { Comparison, PlanOptions, Report, TallyCount } from 'stashen'
import { renderCsv } from 'stashen/render'
import { coarsened } from '../src/core/ledger/coarsen.js'
import type { BillingFacts, TallyRow } from '../src/core/ledger/ledger-row.js'
import { reportOf } from '../src/core/ledger/report.js'
import { Tally } from '../src/core/ledger/tally.js'
import { invoices, type JournalCall } from './support/invoice-oracle.js'
import { begin, journals, plans, prices, zones } from './support/random-plans.js'
import { scaled } from './support/scale.js'

const minute = 60_000
const day = 86_400_000

function rowsOf(journal: readonly JournalCall[]): TallyRow[] {
  return journal.map(({ at, endpoint, how }) => {
    const tally = new Tally()
    tally.forwarded++
    if (how === 'refused') tally.upRefused++
    else if (how === 'serverError' || how === 'noAnswer') tally.upFailed++
    else tally.upAnswered++
    if (how === 'unmodified') tally.upUnmodified++
    if (how === 'clientError') tally.upClientError++
    if (how === 'serverError') tally.upServerError++
    return {
      bucket: Math.floor(at / minute) * minute,
      grain: 'minute',
      lengthMs: minute,
      mode: 'reuse',
      provider: 'ebbline',
      endpoint,
      tally,
    }
  })
}

const since = begin - 40 * day

function factsOf(plan: PlanOptions): BillingFacts[] {
  return [
    { provider: 'ebbline', endpoint: null, since, plan },
    ...Object.entries(prices).map(([endpoint, own]) => ({ provider: 'ebbline', endpoint, since, price: own })),
  ]
}

const millionths = (amount: string | undefined): bigint => {
  const [whole = '0', decimals = ''] = (amount ?? '0').replace('-', '').split('.')
  return BigInt(whole + decimals.padEnd(6, '0')) * (amount?.startsWith('-') ? -1n : 1n)
}
const spentOn = ({ with: made, without }: Comparison): bigint =>
  millionths((made ?? without).money.find(({ currency }) => currency === 'EUR')?.amount)
const spent = ({ totals }: Report): bigint => spentOn(totals)
const sum = (amounts: readonly bigint[]): bigint => amounts.reduce((total, one) => total + one, 0n)

describe('plans', () => {
  it('cost to the cent what a pencil makes of the journal, for every kind, zone, change and anchor day (property)', () => {
    fc.assert(
      fc.property(plans, journals, (plan, journal) => {
        const report = reportOf({ rows: rowsOf(journal), facts: factsOf(plan), since: 0, until: begin + 100 * day })
        const expected = [...invoices(plan, prices, journal, since).values()].filter((amount) => amount !== 0n)
        const periods = report.providers[0]?.periods.map(({ amount }) => millionths(amount)).filter((amount) => amount !== 0n)
        expect(periods).to.have.deep.members(expected)
        expect(spent(report)).to.equal(sum(expected))
      }),
      { numRuns: scaled(12, 20) },
    )
  })

  it('bill what nobody asked for to the stash alone: without it there is nothing, and nothing was measured', () => {
    const facts: BillingFacts[] = [{ provider: 'ebbline', endpoint: null, since: 0, plan: { currency: 'EUR', perCall: '0.1' } }]
    const rows = rowsOf([{ at: begin, endpoint: 'tides', how: 'answered' }])
    for (const { tally } of rows) Object.assign(tally, { forwarded: 0, upBackground: 1, moreAnswered: 1 })
    const { without, with: made, saved } = reportOf({ rows, facts, since: 0, until: begin + day }).totals
    expect([without.basis, without.upstream, made?.upstream]).to.eql(['estimated', 0, 1])
    expect(saved).to.deep.include({ calls: 0, upstreamCalls: -1, money: [{ currency: 'EUR', amount: '-0.1' }] })
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
          const all = { rows, facts, until: begin + 100 * day, isInUse: () => true }
          const whole = reportOf({ ...all, since: 0 })
          const endpoints = whole.providers.flatMap(({ endpoints: lines, fees }) => [
            ...lines.map((line) => millionths(line.with?.money[0]?.amount)),
            millionths(fees.with?.[0]?.amount),
          ])
          expect(sum(endpoints), 'endpoints and fees').to.equal(spent(whole))
          const at = begin + cut * minute
          const parts = [
            reportOf({ ...all, rows: rows.filter(({ bucket }) => bucket < at), since: 0, until: at }),
            reportOf({ ...all, since: at }),
          ]
          expect(sum(parts.map(spent))).to.equal(spent(whole))
          for (const zone of [plan.zone ?? 'UTC', 'UTC']) {
            const { times = [] } = reportOf({ ...all, since: 0, times: { by: 'day', zone } })
            expect(sum(times.map(spentOn))).to.equal(spent(whole))
            expect(times.reduce((calls, time) => calls + (time.with?.asked ?? 0), 0)).to.equal(journal.length)
            const late = reportOf({ ...all, since: at, times: { by: 'day', zone } }).times ?? []
            expect(sum(late.map(spentOn))).to.equal(spent(parts[1] as Report))
          }
          const merged = rows
            .map((row, i) => ({ ...row, provider: 'ebbline', process: i % processes }))
            .sort((a, b) => a.process - b.process)
          expect(spent(reportOf({ ...all, rows: merged, since: 0 }))).to.equal(spent(whole))
        },
      ),
      { numRuns: scaled(6, 10) },
    )
  })

  it('add up by endpoint, by label, by day, in parts and in CSV, in whatever modes, and however calls ended (property)', () => {
    const ways = {
      hit: ['hit'],
      forwarded: ['forwarded', 'upAnswered'],
      collapsed: ['collapsed'],
      errored: ['errored', 'upFailed'],
      refreshing: ['stale', 'staleByChoice', 'upAnswered', 'moreAnswered', 'upBackground'],
      withheld: ['errored', 'withheld'],
      inBackground: ['upAnswered', 'moreAnswered', 'upBackground'],
      measured: ['forwarded', 'upAnswered', 'wouldHit'],
    } as const satisfies Record<string, readonly TallyCount[]>
    const calls = fc.array(
      fc.record({
        at: fc.integer({ min: 0, max: 70 * 24 * 4 }).map((quarter) => begin + quarter * 15 * minute),
        endpoint: fc.constantFrom('tides', 'quote', 'search'),
        way: fc.constantFrom(...(Object.keys(ways) as (keyof typeof ways)[])),
        label: fc.constantFrom(undefined, 'board', 'desk'),
        units: fc.integer({ min: 0, max: 3 }),
      }),
      { minLength: 1, maxLength: 40 },
    )
    fc.assert(
      fc.property(plans, calls, fc.integer({ min: 0, max: 70 * 24 * 60 }), (terms, made, cut) => {
        const plan: PlanOptions = { ...terms, units: { x: { price: '0.07' } } }
        const rows = made.map(({ at, endpoint, way, label, units }): TallyRow => {
          const tally = new Tally()
          tally.count(label, (one) => {
            for (const name of ways[way]) one[name]++
            if (units > 0 && way !== 'withheld') one.addUnits(way === 'hit' ? 'asked' : 'made', { x: units })
          })
          const place = {
            bucket: Math.floor(at / minute) * minute,
            grain: 'minute',
            lengthMs: minute,
            provider: 'ebbline',
            endpoint,
          } as const
          return { ...place, mode: way === 'measured' ? 'measure' : 'reuse', tally }
        })
        const all = { rows, facts: factsOf(plan), until: begin + 100 * day, isInUse: () => true }
        const report = reportOf({ ...all, since: 0, times: { by: 'day', zone: 'Europe/Oslo' } })
        const { totals, times = [] } = report
        const [ebbline] = report.providers
        for (const side of totals.with ? (['without', 'with'] as const) : (['without'] as const)) {
          const amount = ({ [side]: its }: Comparison) => millionths(its?.money[0]?.amount)
          const fee = millionths((ebbline?.fees[side] ?? [])[0]?.amount)
          expect(sum((ebbline?.endpoints ?? []).map(amount)) + fee, `endpoints ${side}`).to.equal(amount(totals))
          if (ebbline?.labels) expect(sum(ebbline.labels.map(amount)) + fee, `labels ${side}`).to.equal(amount(totals))
          expect(sum(times.map(amount)), `days ${side}`).to.equal(amount(totals))
        }
        for (const shown of [
          report,
          { ...report, times: undefined, providers: report.providers.map((one) => ({ ...one, endpoints: [] })) },
        ]) {
          const lines = parse(renderCsv(shown as Report), { columns: true }) as Record<string, string>[]
          expect(lines.reduce((asked, line) => asked + Number(line.asked), 0)).to.equal(totals.without.asked)
          if (totals.with)
            expect(sum(lines.map((line) => millionths(line.money_with || '0')))).to.equal(millionths(totals.with.money[0]?.amount))
        }
        const at = begin + cut * minute
        const parts = [
          reportOf({ ...all, rows: rows.filter(({ bucket }) => bucket < at), since: 0, until: at }),
          reportOf({ ...all, since: at }),
        ]
        if ([report, ...parts].every((one) => one.totals.without.basis === 'estimated'))
          expect(sum(parts.map(spent)), 'parts').to.equal(spent(report))
      }),
      { numRuns: scaled(6, 10) },
    )
  })

  it('cost the same, and count the same by days, once the ledger has put its buckets together (property)', () => {
    const limits = fc.uniqueArray(
      fc.record({ calls: fc.integer({ min: 1, max: 4 }), perMs: fc.constantFrom(10_000, minute, 60 * minute, day) }),
      { selector: ({ perMs }) => perMs, maxLength: 3 },
    )
    const quotas = fc.option(
      fc.record({ calls: fc.integer({ min: 1, max: 50 }), per: fc.constantFrom('day', 'month'), zone: fc.constantFrom(...zones) }),
      {
        nil: undefined,
      },
    ) as fc.Arbitrary<BillingFacts['quota']>
    fc.assert(
      fc.property(plans, journals, limits, quotas, fc.integer({ min: 0, max: 70 * 24 }), (plan, journal, windows, quota, changed) => {
        const [known, ...others] = factsOf(plan) as [BillingFacts, ...BillingFacts[]]
        const since = begin + changed * 60 * minute + 17_000
        const later: BillingFacts = { ...known, since, plan: { currency: 'EUR', perCall: '0.3', zone: 'Asia/Kathmandu' } }
        const facts = [{ ...known, limits: windows, quota }, ...others, { ...later, limits: windows, quota }]
        const fine = rowsOf(journal)
        const longer = (rows: readonly TallyRow[], grain: 'hour' | 'day' | 'month') =>
          coarsened(rows, grain, facts, 'UTC').filter(({ isDetail }) => !isDetail)
        const hours = fine.length > 5 ? [...longer(fine.slice(5), 'hour'), ...fine.slice(0, 5)] : fine
        const days = longer(hours, 'day')
        const periodsOf = ({ providers }: Report) =>
          providers.flatMap(({ periods }) => periods.map(({ from, ...period }) => (plan.prepaid ? period.amount : { from, ...period })))
        const told = (rows: readonly TallyRow[]) => {
          const report = reportOf({ rows, facts, since: 0, until: begin + 100 * day, times: { by: 'day', zone: plan.zone ?? 'UTC' } })
          const { without, with: made } = report.totals
          const byDay = report.times?.filter(({ with: one }) => one).map((one) => [one.from, one.with?.asked]) ?? []
          const spans = new Map<string, number>()
          for (const [from, asked] of byDay) spans.set(String(from).slice(0, 16), Number(asked))
          return { periods: periodsOf(report), made, upstream: without.upstream, calls: sum([...spans.values()].map(BigInt)) }
        }
        expect(told(days)).to.eql(told(fine))
        const bill = (rows: readonly TallyRow[]) => {
          const report = reportOf({ rows, facts, since: 0, until: begin + 100 * day })
          return { periods: periodsOf(report), totals: report.totals }
        }
        expect(bill(longer(days, 'month'))).to.eql(bill(days))
        const refusedOf = (rows: readonly TallyRow[]) =>
          reportOf({ rows, facts, since: 0, until: begin + 100 * day }).totals.without.refused ?? 0
        const refused = refusedOf(fine)
        expect(refusedOf(longer(longer(fine, 'hour'), 'day')), 'refused').to.equal(refused)
        if (windows.length === 0 && !quota) expect(refused).to.equal(0)
        for (const { calls, perMs } of windows) {
          const length = Math.max(perMs, minute)
          const used = new Set(journal.map(({ at }) => Math.floor(at / length))).size
          expect(journal.length - refused, 'what passes').to.be.at.most((used * calls * length) / perMs)
        }
      }),
      { numRuns: scaled(6, 10) },
    )
  })
})
