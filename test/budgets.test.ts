import { expect } from 'chai'
import fc from 'fast-check'
import { BudgetSpentError, type Clock, memoryStore, openStash, type PlanOptions, type StashEvents } from 'stashen'
import type { PermitFacts } from '../src/core/limits/bound.js'
import { compileBudget } from '../src/core/limits/budget.js'
import { budgetLevelOf } from '../src/core/limits/budget-bound.js'
import { loadCalendars } from '../src/core/limits/calendars.js'
import { nothingKnown, type ProviderState } from '../src/core/limits/provider-state.js'
import { chargeOfUnits } from '../src/core/money/period-charge.js'
import { invoices, type JournalCall } from './support/invoice-oracle.js'
import { admit, ended as withEnded } from './support/provider-play.js'
import { begin, plans, prices } from './support/random-plans.js'
import { scaled } from './support/scale.js'
import { json, noon, type Scene, scene } from './support/upstream.js'

const minute = 60_000
const hour = 60 * minute

before(loadCalendars)

describe('budgets', () => {
  const endpoints = ['tides', 'quote', 'search', 'free'] as const
  const traffic = fc.array(
    fc.record({
      after: fc.integer({ min: 0, max: 30 * hour }),
      takes: fc.integer({ min: 1, max: 40 * hour }),
      endpoint: fc.constantFrom(...endpoints),
      how: fc.constantFrom('answered', 'answered', 'unmodified', 'clientError', 'noAnswer') as fc.Arbitrary<JournalCall['how']>,
    }),
    { minLength: 1, maxLength: 60 },
  )

  it('are never overspent, whatever the plan and however calls overlap, by the bill of a slow independent calculation (property)', () => {
    fc.assert(
      fc.property(
        plans,
        traffic,
        fc.constantFrom('0.5', '3', '40'),
        fc.constantFrom(minute, 100 * hour),
        fc.constantFrom('ended', 'left'),
        (anyPlan, calls, money, leaseMs, countedAt) => {
          const { baseFee: _, minimum: __, rounding: ___, changes = [], ...terms } = anyPlan
          const plan: PlanOptions = {
            ...{ ...terms, countedAt },
            changes: changes.map(({ baseFee: _fee, minimum: _least, rounding: _round, ...change }) => change),
          }
          const budget = compileBudget({ money, per: 'year', zone: 'UTC' }, plan)
          const spending = (endpoint: string) => ({
            budgets: [budget],
            price: {
              weight: prices[endpoint]?.weight ?? 1,
              perCall: prices[endpoint]?.perCall,
              unbilled: plan.notBilled ?? [],
              unitsUpTo: {},
            },
          })
          const callTo = (endpoint: string) => ({
            ...{ endpoint, holdOffScope: endpoint, limits: [], holdOff: { firstMs: 0, upToMs: 0 }, inBackground: false, leaseMs },
            spending: spending(endpoint),
          })
          let state: ProviderState = nothingKnown
          let now = begin
          const bill: JournalCall[] = []
          const flying: { permit: PermitFacts; endpoint: string; how: JournalCall['how']; began: number; end: number }[] = []
          const land = (until: number) => {
            for (const one of flying.filter(({ end }) => end <= until).sort((a, b) => a.end - b.end)) {
              const { endpoint, how, began, end } = one
              flying.splice(flying.indexOf(one), 1)
              state = withEnded(state, callTo(endpoint), one.permit, { how: 'answered', ending: how, at: end, random: 0 })
              bill.push({ at: countedAt === 'left' ? began : end, endpoint, how })
            }
          }
          for (const { after, takes, endpoint, how } of calls) {
            now += after
            land(now)
            const admission = admit(state, callTo(endpoint), now)
            if (admission.state) state = admission.state
            if (admission.admitted)
              flying.push({ permit: admission.permit, endpoint, how, began: now, end: now + Math.min(takes, leaseMs - 1) })
          }
          land(Number.POSITIVE_INFINITY)
          const billed = [...invoices(plan, prices, bill).values()].reduce((sum, amount) => sum + amount, 0n)
          expect(billed <= BigInt(Math.round(Number(money) * 1e6)), `${billed} of ${money}`).to.equal(true)
          const spent = Object.values(state.budgets ?? {})[0]?.spent ?? '0'
          if (countedAt === 'ended' && ![plan, ...(plan.changes ?? [])].some(({ maximum }) => maximum !== undefined))
            expect(BigInt(Math.round(Number(spent) * 1e6))).to.equal(billed)
        },
      ),
      { numRuns: scaled(30) },
    )
  })

  it('count on the most units that a call may cost, by the rule, else the most that one was seen to cost', () => {
    const plan: PlanOptions = { currency: 'EUR', units: { tokens: { price: '0.40', per: 1000 } } }
    const budget = compileBudget({ money: '1' }, plan)
    const call = (unitsUpTo: Record<string, number>) => ({
      ...{
        endpoint: 'answers',
        holdOffScope: 'answers',
        limits: [],
        holdOff: { firstMs: 0, upToMs: 0 },
        inBackground: false,
        leaseMs: 1000,
      },
      spending: { budgets: [budget], price: { weight: 1, unbilled: [], unitsUpTo } },
    })
    for (const [upTo, tokens] of [
      [{ tokens: 1000 }, 700],
      [{}, 900],
    ] as const) {
      let [state, spent] = [nothingKnown as ProviderState, 0]
      for (let i = 0; i < 9; i++) {
        const admission = admit(state, call(upTo), noon + i)
        if (!admission.admitted) break
        state = withEnded(admission.state, call(upTo), admission.permit, { how: 'answered', at: noon + i, units: { tokens }, random: 0 })
        spent += Number(chargeOfUnits(plan, { tokens }))
      }
      expect(spent).to.be.within(0.7, 1)
      expect(budgetLevelOf(state, noon + 20)).to.equal(spent < 0.8 ? 'free' : spent < 0.9 ? 'warn' : 'stretch')
    }
  })

  const budgeted = {
    provider: {
      budgets: [{ calls: 10, per: 'day', zone: 'Europe/Oslo' }],
      endpoints: {
        tides: { request: 'GET /tides/{day}', freshFor: '1 min', refreshAhead: '30 s', staleIfError: '1 hour' },
        board: { request: 'GET /board/{n}', freshFor: '1 min', staleWhileRevalidate: '1 hour' },
        other: { request: 'GET /other/{n}', freshFor: '1 min', fallback: { json: { closed: true } } },
        book: { request: 'POST /books' },
      },
    },
  } as const

  const got = async ({ stash }: Pick<Scene, 'stash'>, url: string, init?: RequestInit, background = false): Promise<string> => {
    try {
      const response = await (background ? stash.calling({ background: true }) : stash).fetch(url, init)
      await response.arrayBuffer()
      return `${stash.outcomeOf(response)?.how} ${stash.outcomeOf(response)?.reason}`
    } catch (error) {
      return error instanceof BudgetSpentError ? `${error.code} ${error.retryAt?.toISOString()}` : String(error)
    }
  }

  it('warn, stretch older answers and then stop, each told once, until the next period begins', () =>
    scene(async (now) => {
      const { stash, base, clock, received } = now
      const events: StashEvents['budget'][] = []
      stash.on('budget', (event) => void events.push(event))
      for (const path of ['/tides/1', '/board/1', '/tides/2', '/tides/3', '/tides/4', '/tides/5', '/tides/6']) await got(now, base + path)
      expect(events).to.eql([])
      await got(now, `${base}/tides/7`)
      expect(events.map(({ level, spent }) => [level, spent])).to.eql([['warn', '8']])
      await clock.sleep(45_000)
      expect(await got(now, `${base}/tides/1`), 'refreshed ahead, the ninth call').to.equal('hit fresh')
      await clock.sleep(2 * minute)
      expect(events.map(({ level }) => level)).to.eql(['warn', 'stretch'])
      expect(await got(now, `${base}/tides/2`)).to.equal('stale budget-stretched')
      expect(await got(now, `${base}/board/1`)).to.equal('stale budget-stretched')
      expect(await got(now, `${base}/tides/8`, undefined, true)).to.equal('BUDGET_SPENT 2026-06-30T22:00:00.000Z')
      expect(received).to.have.length(9)
      expect(await got(now, `${base}/tides/8`), 'somebody waits for it').to.equal('forwarded absent')
      expect(events.at(-1)).to.deep.include({ provider: 'ebbline', level: 'stop', spent: '10', amount: '10', currency: null })
      await clock.sleep(2 * minute)
      expect(await got(now, `${base}/tides/8`)).to.equal('stale budget-spent')
      expect(await got(now, `${base}/tides/9`)).to.equal('BUDGET_SPENT 2026-06-30T22:00:00.000Z')
      expect(await got(now, `${base}/other/1`)).to.equal('fallback default-given')
      expect(await got(now, `${base}/books`, { method: 'POST', body: '{}' })).to.equal('BUDGET_SPENT 2026-06-30T22:00:00.000Z')
      expect((await stash.explain(`${base}/tides/9`)).blockedBy).to.include({ why: 'budget-spent', what: 'budget of 10 calls per day' })
      expect((await stash.status()).providers[0]?.budgets).to.eql([
        {
          ...{ budget: 'budget of 10 calls per day', amount: '10', currency: null, spent: '10', level: 'stop', stopsAt: '10' },
          since: new Date('2026-06-29T22:00Z'),
          until: new Date('2026-06-30T22:00:00.000Z'),
        },
      ])
      expect(events).to.have.length(3)
      expect(received).to.have.length(10)
      await clock.sleep(10 * hour)
      expect(await got(now, `${base}/tides/9`)).to.equal('forwarded absent')
      expect((await stash.report()).totals.with).to.include({ asked: 18, upstream: 11, errored: 3, stale: 3, fallback: 1 })
    }, budgeted))

  it('count units of answers that are not stored, and leave off what the plan does not bill', () =>
    scene(
      async (now) => {
        const { stash, base } = now
        now.answer = json(() => ({ usage: { tokens: 1500 } }))
        expect(await got(now, `${base}/answers`, { method: 'POST', body: '{}' })).to.equal('passed not-reusable')
        now.answer = json(() => ({}), 404)
        await got(now, `${base}/answers`, { method: 'POST', body: '{}' })
        await now.clock.sleep(1)
        expect((await stash.status()).providers[0]?.budgets).to.eql([
          {
            ...{ budget: 'budget of EUR 1.3 per month', amount: '1.3', currency: 'EUR', spent: '0.61', level: 'free', stopsAt: '1.3' },
            since: new Date('2026-06-01T00:00Z'),
            until: new Date('2026-07-01T00:00:00.000Z'),
          },
        ])
        expect((await stash.report()).totals.with?.money).to.eql([{ currency: 'EUR', amount: '0.61' }])
        now.answer = json(() => ({ usage: { tokens: 1500 } }))
        expect(await got(now, `${base}/answers`, { method: 'POST', body: '{}' })).to.equal('passed not-reusable')
        await now.clock.sleep(1)
        expect(await got(now, `${base}/answers`, { method: 'POST', body: '{}' }), 'it may cost as much again').to.include('BUDGET_SPENT')
      },
      {
        provider: {
          budgets: [{ money: '1.3' }],
          plan: { currency: 'EUR', perCall: '0.01', units: { tokens: { price: '0.40', per: 1000 } }, notBilled: ['clientError'] },
          endpoints: { answers: { request: 'POST /answers', units: { tokens: { at: '/usage/tokens' } } } },
        },
      },
    ))

  it('hold as quotas do, of which the lower figure rules where the provider counts calls of others too', () => {
    const store = memoryStore()
    return scene(
      async (now) => {
        const { stash, base, received } = now
        let left = 5
        now.answer = (request, response) => json(() => ({}), 200, { 'x-calls-left': String(left--) })(request, response)
        await got(now, `${base}/tides/1`)
        const quota = (await stash.status()).providers[0]?.limits.find(({ limit }) => limit.startsWith('quota'))
        expect(quota).to.deep.include({ calls: 20, left: 5, reported: { left: 5, fewer: 14 } })
        for (const n of [2, 3, 4, 5, 6]) expect(await got(now, `${base}/tides/${n}`)).to.equal('forwarded absent')
        expect(await got(now, `${base}/tides/7`)).to.include('LimitReachedError')
        expect(received).to.have.length(6)
        await stash.report()
        const others = (await store.ledger.read({ since: 0, until: Number.MAX_SAFE_INTEGER })).reduce(
          (sum, { tally }) => sum + (tally.others ?? 0),
          0,
        )
        expect(others, 'calls of others, kept apart').to.equal(14)
        expect((await stash.report()).providers[0]?.endpoints.map(({ endpoint }) => endpoint)).to.eql(['tides'])
        now.answer = json(() => ({}))
        await now.clock.sleep(12 * hour)
        for (let n = 0; n < 20; n++) expect(await got(now, `${base}/tides/day2-${n}`)).to.equal('forwarded absent')
        expect(await got(now, `${base}/tides/day2-21`), 'its own count rules where it says nothing').to.include('LimitReachedError')
      },
      {
        config: { store },
        provider: {
          quota: { calls: 20, per: 'day', remaining: { header: 'X-Calls-Left' } },
          endpoints: { tides: { request: 'GET /tides/{day}', freshFor: '1 min' } },
        },
      },
    )
  })

  it('that are set up in the middle of a period begin with what the ledger knows of it', async () => {
    let now = Date.parse('2026-06-20T10:00:00Z')
    const clock: Clock = { now: () => now, ticks: () => performance.now(), later: () => () => {} }
    const store = Object.assign(memoryStore(), { close() {} })
    const plan: PlanOptions = {
      currency: 'EUR',
      period: 'month',
      anchorDay: 15,
      included: 2,
      perCall: '0.5',
      units: { rows: { price: '0.01' } },
    }
    const open = async (more: object) => {
      const stash = await openStash({ store, clock, providers: { skerrylight: { plan, ...more } } })
      const units = { rows: () => 10 }
      const find = stash.operation('skerrylight.find', async (name: string) => name, { units, weight: 2 })
      const quote = stash.operation('skerrylight.quote', async (name: string) => name, { perCall: '1' })
      return { stash, find, quote }
    }
    const first = await open({})
    for (const name of ['a', 'b']) await first.find(name)
    now += 12 * 24 * hour // 2 July, in the same billing period
    for (const name of ['c', 'd', 'e']) await first.find(name)
    await first.quote('a')
    await first.stash.close()
    const budgets = [
      { money: '5', per: 'month' },
      { calls: 100, per: 'year' },
    ]
    const second = await open({ budgets, quota: { calls: 50, per: 'month' } })
    const [status] = (await second.stash.status()).providers
    expect(
      status?.budgets.map(({ spent, level }) => [spent, level]),
      '6 by weight at 0.5, 3 times 10 rows, a quote',
    ).to.eql([
      ['4.3', 'warn'],
      ['6', 'free'],
    ])
    expect(status?.limits.find(({ limit }) => limit.startsWith('quota'))).to.include({ left: 46 })
    expect(await second.quote('b').catch((error: { code: string }) => error.code), '4.30 and 1 are more than 5').to.equal('BUDGET_SPENT')
    await second.stash.close()
    const third = await open({ budgets, quota: { calls: 50, per: 'month' } })
    expect((await third.stash.status()).providers[0]?.budgets[0]?.spent, 'counted once').to.equal('4.3')
    await third.stash.close()
  })

  it('and the books hold when the clock is set back an hour, over the begin of a day', async () => {
    let now = Date.parse('2026-07-01T00:10:00Z')
    const clock: Clock = { now: () => now, ticks: () => performance.now(), later: () => () => {} }
    const store = memoryStore()
    const providers = { skerrylight: { budgets: [{ calls: 3, per: 'day' as const }], quota: { calls: 100, per: 'day' as const } } }
    const stash = await openStash({ store, clock, providers })
    const find = stash.operation('skerrylight.find', async (name: string) => name, { freshFor: '1 min' })
    const ask = (name: string) => find(name).catch((error: { code: string }) => error.code)
    expect([await ask('a'), await ask('b')]).to.eql(['a', 'b'])
    now -= hour
    expect(await ask('a'), 'what was stored an hour from now is not fresh').to.equal('a')
    expect(await ask('c')).to.equal('BUDGET_SPENT')
    now += 25 * hour
    expect(await ask('c'), 'a new day').to.equal('c')
    const { totals, providers: all } = await stash.report()
    expect(totals.with).to.include({ asked: 5, upstream: 4, errored: 1 })
    expect(all[0]?.quota?.used.reusing, 'of the last day').to.equal(1)
    expect((await stash.report({ by: 'day' })).times?.map(({ with: its }) => its?.asked)).to.eql([2, 2, 1])
    await stash.close()
  })

  it('that make no sense are told of together', async () => {
    const opened = openStash({
      providers: {
        ebbline: {
          budgets: [
            { money: '5' },
            {},
            { calls: 3, money: '4', warnAt: 0.95 },
            { calls: 2, per: 'day', stretchAt: 0.7 },
            { money: '1,50' },
          ],
        },
      },
      ledger: { zone: 'Mars/Olympus' },
    } as never).catch((error: Error) => error.message)
    const message = String(await opened)
    for (const fault of [
      'budgets[0].money: needs a "plan"',
      'budgets[1].money: is missing',
      'budgets[2].calls: stands beside "money"',
      'budgets[2].warnAt: is 0.95, more than "stretchAt"',
      'budgets[3].warnAt: is 0.8, more than "stretchAt"',
      'budgets[2].per: is a second budget of money per month',
      'budgets[4].money: "1,50"',
      'ledger.zone: "Mars/Olympus"',
    ])
      expect(message).to.include(fault)
  })
})
