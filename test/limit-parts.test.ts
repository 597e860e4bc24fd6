import { expect } from 'chai'
import type { PlanOptions } from 'stashen'
import { compileBudget } from '../src/core/limits/budget.js'
import { type CallsUnderWay, highestPrice, untilOf, withCall, withLonger, withoutCall } from '../src/core/limits/budget-calls.js'
import { type BudgetState, mostSpent, spentOf, unspent } from '../src/core/limits/budget-spending.js'
import {
  extendedCall,
  leaving,
  mayLeave,
  setBack,
  spentEarlier,
  upToDate,
  withLeft,
  withReturned,
} from '../src/core/limits/budget-state.js'
import { loadCalendars } from '../src/core/limits/calendars.js'
import { CallSeries } from '../src/core/limits/call-series.js'
import type { HoldOff } from '../src/core/limits/hold-off.js'
import { afterFailure, heldOffUntil } from '../src/core/limits/hold-off.js'
import { holdOffBound, withResult } from '../src/core/limits/hold-off-bound.js'
import { compileLimit, compileQuota } from '../src/core/limits/limit.js'
import { begun, ended, roomAgain, roomIn, unused } from '../src/core/limits/limit-state.js'
import { nothingKnown, type ProviderState } from '../src/core/limits/provider-state.js'
import { newOthers, reportedBound, reportedLeft, withReported } from '../src/core/limits/reported-bound.js'
import { reportedBy, saysWhen } from '../src/core/limits/reported-limits.js'
import { noon } from './support/upstream.js'

const day = 86_400_000
const midnight = Date.parse('2026-07-01T00:00:00Z')

before(loadCalendars)

describe('parts of limits', () => {
  it('share out the calls of an hour by time, and know none outside of what was counted', () => {
    const [hour, from] = [3_600_000, midnight]
    const series = new CallSeries([8, 4, 20].map((calls, i) => ({ at: from + i * hour, calls })))
    const rows: [from: number, to: number, calls: number][] = [
      [0, 1, 8], [0, 3, 32], [0.25, 0.5, 2], [0.5, 1.5, 6], [2, 2.1, 2], [-5, 0.5, 4], [2.5, 9, 10], [4, 5, 0], [1, 1, 0], [2, 1, 0],
    ] // biome-ignore format: rows
    for (const [begin, end, calls] of rows)
      expect(series.between(from + begin * hour, from + end * hour), `${begin} to ${end}`).to.be.closeTo(calls, 1e-9)
    expect([series.until - from, series.lengthMs]).to.eql([3 * hour, 3 * hour])
  })

  it('calls under way are counted together where they are alike, and each can be taken out or kept longer', () => {
    const call = (id: number, weight = 1, own = '0'): CallsUnderWay => [id, 1, weight, own]
    let all: readonly CallsUnderWay[] = []
    for (const one of [call(10), call(10), call(10, 2), call(10, 1, '5'), call(20)]) all = withCall(all, one)
    // biome-ignore format: a row a line
    expect(all).to.eql([[10, 2, 1, '0'], [10, 1, 2, '0'], [10, 1, 1, '5'], [20, 1, 1, '0']])
    expect(withoutCall(all, call(10))?.[0]).to.eql([10, 1, 1, '0'])
    expect(withoutCall(all, call(10, 2))).to.eql([all[0], all[2], all[3]])
    for (const unknown of [call(11), call(10, 3), call(10, 1, '6')]) {
      expect(withoutCall(all, unknown)).to.equal(undefined)
      expect(withLonger(all, unknown, 99)).to.equal(all)
    }
    const longer = withLonger(withLonger(all, call(10), 30), call(10), 30)
    expect(longer).to.deep.include.members([[10, 2, 1, '0', 30]])
    expect(longer.map(untilOf).sort()).to.eql([10, 10, 20, 30])
    expect(withoutCall(longer, call(10))).to.deep.include.members([[10, 1, 1, '0', 30]])
  })

  it('the highest price of a call is that of its dearest place in any plan', () => {
    // biome-ignore format: many words a line
    const rows: [terms: Parameters<typeof highestPrice>[0], weight: number, price: string][] = [
      [[], 1, '0'], [[{}], 1, '0'], [[{ perCall: '0.01' }], 3, '0.03'], [[{ perCall: '0.01' }, { perCall: '0.02' }], 1, '0.02'],
      [[{ perCall: '0.02' }, { perCall: '0.01' }], 1, '0.02'],
      [[{ tiers: [{ upTo: 10, perCall: '0.05' }, { perCall: '0.03' }] }], 2, '0.1'], [[{ packages: { of: 100, price: '5' } }], 1, '5'],
      [[{ packages: { of: 100, price: '5' } }], 100, '5'], [[{ packages: { of: 100, price: '5' } }], 101, '10'],
      [[{ perCall: '6', packages: { of: 100, price: '5' } }], 1, '6']
    ]
    for (const [terms, weight, price] of rows) expect(highestPrice(terms, weight).toFixed(), JSON.stringify(terms)).to.equal(price)
  })

  it('a budget is charged when calls end, at the latest when they should have, in the period that they end in', () => {
    const plan: PlanOptions = { currency: 'EUR', perCall: '1' }
    const budget = compileBudget({ money: '3', per: 'day', stretchAt: 0.5, warnAt: 0.3 }, plan)
    const price = { perCall: undefined, weight: 1, unbilled: [], unitsUpTo: {} }
    const call = (until: number) => leaving(budget, price, '0', until)
    const spent = (state: BudgetState) => spentOf(budget, state).toFixed()
    const fresh = unspent(budget, noon)
    let state = withLeft(withLeft(fresh, call(noon + 100)), call(noon + 200))
    expect([spent(state), mostSpent(budget, state, call(noon + 300), noon).toFixed()]).to.eql(['0', '3'])
    expect([
      mayLeave(budget, state, call(noon + 300), noon, false),
      mayLeave(budget, withLeft(state, call(noon + 1)), call(1), noon, false),
    ]).to.eql([true, false])
    expect([spent(upToDate(budget, state, noon + 99)), spent(upToDate(budget, state, noon + 100))]).to.eql(['0', '1'])
    expect(upToDate(budget, state, noon + 99), 'nothing to do').to.equal(state)
    const late = upToDate(budget, extendedCall(state, call(noon + 100), noon + 150), noon + 100)
    expect(spent(late), 'kept longer').to.equal('0')
    expect(spent(upToDate(budget, late, noon + 150))).to.equal('1')
    state = withReturned(budget, state, call(noon + 100), { at: noon + 50, ending: 'answered', units: undefined, price })
    expect([spent(state), state.level, state.flying.length]).to.eql(['1', 'warn', 1])
    expect(withReturned(budget, state, call(noon + 100), { at: noon + 60, ending: 'answered', units: undefined, price })).to.equal(state)
    state = withReturned(budget, state, call(noon + 200), { at: noon + 60, ending: 'answered', units: undefined, price })
    expect([spent(state), state.level, mayLeave(budget, state, call(1), noon, true), mayLeave(budget, state, call(1), noon, false)]).to.eql(
      ['2', 'stretch', false, true],
    )
    const next = upToDate(budget, state, midnight)
    expect([spent(upToDate(budget, state, midnight - 1)), spent(next), next.level, next.start]).to.eql(['2', '0', 'free', midnight])
    const across = upToDate(budget, withLeft(fresh, call(midnight + 5)), midnight + 10)
    expect([spent(across), across.start], 'charged where it ends').to.eql(['1', midnight])
    const unbilled = { ...price, unbilled: ['failed'] as const }
    const failed = withReturned(budget, withLeft(fresh, call(9e15)), call(9e15), {
      at: noon,
      ending: 'noAnswer',
      units: undefined,
      price: unbilled,
    })
    expect([spent(failed), failed.flying]).to.eql(['0', []])
  })

  it('what was bought before counts in its own period, and what a budget of calls counts is calls by weight', () => {
    const bought = (at: number, calls: number, own = '0') => ({ at, calls, own })
    const money = compileBudget({ money: '100', per: 'day' }, { currency: 'EUR', perCall: '0.5' })
    const earlier = spentEarlier(money, [bought(noon - day, 3), bought(noon - 1_000, 4, '0.25'), bought(noon, 2)], noon)
    expect([spentOf(money, earlier).toFixed(), earlier.start]).to.eql(['3.25', midnight - day])
    expect(spentOf(money, spentEarlier(money, [bought(noon - day, 3)], noon)).toFixed()).to.equal('0')
    expect(spentEarlier(money, [], noon)).to.deep.include({ ...unspent(money, noon), metered: [] })
    const calls = compileBudget({ calls: 10, per: 'day' }, undefined)
    const state = spentEarlier(calls, [bought(noon, 8)], noon)
    expect([spentOf(calls, state).toFixed(), state.level]).to.eql(['8', 'warn'])
    expect(leaving(calls, { perCall: '9', weight: 3, unbilled: [], unitsUpTo: {} }, '5', 7)).to.eql([7, 1, 1, '0'])
    expect(leaving(money, { perCall: '9', weight: 3, unbilled: [], unitsUpTo: {} }, '9', 7), 'with a price of its own').to.eql([
      7,
      1,
      0,
      '9',
    ])
    expect(leaving(money, { perCall: undefined, weight: 3, unbilled: [], unitsUpTo: {} }, '0', 7)).to.eql([7, 1, 3, '0'])
  })

  it('a budget whose clock is set back past midnight counts there too what was spent, and not twice when it is right again', () => {
    const budget = compileBudget({ money: '10', per: 'day' }, { currency: 'EUR', perCall: '1' })
    const spent = (state: BudgetState) => Number(spentOf(budget, state))
    const at = (moment: number, calls: number) => ({ at: moment, calls, own: '0' })
    const [early, late] = [midnight + 1_800_000, midnight - 1_800_000]
    const set = (state: BudgetState, now: number) => upToDate(budget, setBack(state, { latest: early, now }), now)
    const today = spentEarlier(budget, [at(early, 4)], early)
    const yesterday = set(today, late)
    expect(spent(yesterday), 'these calls were made').to.equal(4)
    expect(spent(upToDate(budget, yesterday, early + 1)), 'counted once').to.equal(4)
    expect(spent(upToDate(budget, yesterday, late + day - 1)), 'that could be of the same true day').to.equal(4)
    expect(spent(upToDate(budget, yesterday, late + day)), 'that cannot').to.equal(0)
    const back = set(spentEarlier(budget, [at(late, 1), at(early, 4)], early), late)
    expect(spent(back), 'with what was spent on that day').to.equal(5)
    expect(spent(upToDate(budget, back, early))).to.equal(4)
    const call = leaving(budget, { perCall: undefined, weight: 1, unbilled: [], unitsUpTo: {} }, '0', late + 99)
    const price = { perCall: undefined, weight: 1, unbilled: [], unitsUpTo: {} }
    const more = withReturned(budget, withLeft(back, call), call, { at: late + 50, ending: 'answered', units: undefined, price })
    expect([spent(more), spent(upToDate(budget, more, early))], 'what is bought meanwhile counts in both').to.eql([6, 5])
    expect(spent(set(upToDate(budget, more, early), late)), 'and once when it is set back again').to.equal(6)
    expect(spent(upToDate(budget, today, midnight - 5_000)), 'clocks of machines differ by that much').to.equal(4)
    expect(upToDate(budget, today, midnight - 5_000).start).to.equal(midnight)
    expect(upToDate(budget, today, midnight - 5_001).start).to.equal(midnight - day)
  })

  it('hold-offs double up to their longest, end to the millisecond, and let one try', () => {
    const rule = { firstMs: 1_000, upToMs: 3_000 }
    const fail = (known: HoldOff | undefined, began: number, now: number, random = 0) => afterFailure(known, rule, { began, now, random })
    const first = fail(undefined, 0, 10)
    expect(first).to.eql({ failures: 1, at: 10, until: 1_010 })
    expect(fail(undefined, 0, 10, 1)?.until, 'a quarter shorter').to.equal(760)
    expect(fail(first, 9, 20), 'it began before the failure was known').to.equal(first)
    expect(fail(first, 10, 20)).to.eql({ failures: 2, at: 20, until: 2_020 })
    expect(fail(first, 9, 9), 'by a clock that was set back').to.eql({ failures: 2, at: 9, until: 2_009 })
    expect(fail(fail(first, 10, 20), 20, 30)).to.eql({ failures: 3, at: 30, until: 3_030 })
    expect(afterFailure(undefined, { firstMs: 0, upToMs: 9 }, { began: 0, now: 1, random: 0 })).to.equal(undefined)
    const trying = { failures: 1, at: 0, until: 1_000, trialUntil: 1_500 }
    // biome-ignore format: many words a line
    const rows: [holdOff: HoldOff | undefined, now: number, until: number | undefined][] = [
      [undefined, 0, undefined], [{ ...trying, trialUntil: undefined }, 999, 1_000],
      [{ ...trying, trialUntil: undefined }, 1_000, undefined], [trying, 1_000, 1_500], [trying, 1_499, 1_500], [trying, 1_500, undefined],
      [{ failures: 1, at: 0, until: 3_000 }, 0, 3_000], [{ failures: 1, at: 0, until: 3_001 }, 0, undefined],
      [{ ...trying, until: 0, trialUntil: 2_000 }, 0, 2_000], [{ ...trying, until: 0, trialUntil: 2_001 }, 0, undefined]
    ]
    for (const [holdOff, now, until] of rows)
      expect(heldOffUntil(holdOff, rule, now, 2_000), JSON.stringify([holdOff, now])).to.equal(until)
    const change = { latest: 500, now: 100 }
    expect(holdOffBound.setBack?.(nothingKnown, change)).to.eql(nothingKnown)
    expect(holdOffBound.setBack?.({ ...nothingKnown, holdOffs: { a: trying }, lastSuccessAt: 400 }, change)).to.deep.include({
      holdOffs: { a: { failures: 1, at: 0, until: 600, trialUntil: 1_100 } },
      lastSuccessAt: 100,
    })
  })

  it('what fails in several places without a success between holds off the provider', () => {
    const call = (holdOffScope: string) => ({ holdOffScope, endpoint: holdOffScope, holdOff: { firstMs: 1_000, upToMs: 9_000 } }) as never
    const end = (how: 'answered' | 'failed' | 'refused' | 'left', at: number, more: object = {}) =>
      ({ how, at, random: 0, ...more }) as never
    const play = (...steps: [scope: string, how: 'answered' | 'failed' | 'refused' | 'left', at: number, more?: object][]) =>
      steps.reduce<ProviderState>(
        (state, [scope, how, at, more]) => withResult(state, call(scope), { began: at - 1 }, end(how, at, more)),
        nothingKnown,
      )
    const one = play(['a', 'failed', 10])
    expect([Object.keys(one.holdOffs), one.providerHoldOff, one.lastError]).to.eql([
      ['a'],
      undefined,
      { at: 10, endpoint: 'a', what: 'failed' },
    ])
    expect(play(['a', 'failed', 10], ['a', 'failed', 20]).providerHoldOff).to.equal(undefined)
    expect(play(['a', 'failed', 10], ['b', 'failed', 20]).providerHoldOff).to.deep.include({ failures: 1, until: 1_020 })
    expect(play(['a', 'failed', 10], ['c', 'answered', 15], ['b', 'failed', 20]).providerHoldOff).to.equal(undefined)
    expect(play(['a', 'failed', 10], ['c', 'answered', 10], ['b', 'failed', 20]).providerHoldOff).to.not.equal(undefined)
    const over = play(['a', 'failed', 10], ['b', 'failed', 20], ['a', 'answered', 30])
    expect([Object.keys(over.holdOffs), over.providerHoldOff, over.lastSuccessAt]).to.eql([['b'], undefined, 30])
    expect(play(['a', 'refused', 10, { saidWhen: true, what: '429' }])).to.deep.include({
      holdOffs: {},
      lastError: { at: 10, endpoint: 'a', what: '429' },
    })
    expect(play(['a', 'refused', 10]).holdOffs).to.have.property('a')
    expect(play(['a', 'left', 10]).holdOffs).to.eql({})
    const many = play(...Array.from({ length: 101 }, (_, i) => [`s${i}`, 'failed', i + 10] as [string, 'failed', number]))
    expect([Object.keys(many.holdOffs).length, 's0' in many.holdOffs, 's1' in many.holdOffs]).to.eql([100, false, true])
  })

  it('what providers report is read by the draft standard and by custom, and bounded', () => {
    const read = (fields: Record<string, string>, status = 200) => {
      const { limits, notBefore } = reportedBy(status, Object.entries(fields), noon, undefined)
      return [
        limits.map(({ name, left, until, calls }) => [name, left, until - noon, calls]),
        notBefore === undefined ? undefined : notBefore - noon,
      ]
    }
    // biome-ignore format: a row a line
    const rows: [fields: Record<string, string>, limits: unknown[], notBefore?: number][] = [
      [{ ratelimit: '"a";r=5;t=10' }, [['a', 5, 10_000, undefined]]],
      [{ ratelimit: '"a";r=5;t=10', 'ratelimit-policy': '"a";q=50, "b";q=7' }, [['a', 5, 10_000, 50]]],
      [{ ratelimit: '"a";r=5;t=10, "b";r=0;t=1' }, [['a', 5, 10_000, undefined], ['b', 0, 1_000, undefined]]],
      [{ ratelimit: '"a";r=5' }, []],
      [{ ratelimit: '"a";t=5' }, []],
      [{ ratelimit: '"a";r=5;t=0' }, []],
      [{ ratelimit: 'limit=100, remaining=50, reset=5' }, [['', 50, 5_000, 100]]],
      [{ ratelimit: 'remaining=50' }, []],
      [{ ratelimit: 'reset=50' }, []],
      [
        { 'x-ratelimit-remaining': '3', 'x-ratelimit-reset': '60', 'x-ratelimit-limit': '100, 100;w=60' },
        [['x-ratelimit-', 3, 60_000, 100]],
      ],
      [{ 'x-ratelimit-remaining': '3' }, []],
      [{ 'x-ratelimit-reset': '3' }, []],
      [{ 'x-ratelimit-remaining': 'many', 'x-ratelimit-reset': '3' }, []],
    ]
    for (const [fields, limits] of rows) expect(read(fields)[0], JSON.stringify(fields)).to.eql(limits)
    const waits: [value: string, ms: number | undefined][] = [
      ['0', undefined],
      ['1', 1_000],
      ['2678400', 31 * day],
      ['2678401', undefined],
      ['1.5', undefined],
      [new Date(noon + 1_000).toUTCString(), 1_000],
      [new Date(noon).toUTCString(), undefined],
    ]
    for (const [value, ms] of waits) {
      expect(read({ 'retry-after': value }, 429)[1], value).to.equal(ms)
      expect(read({ 'retry-after': value }, 503)[1], value).to.equal(ms)
      expect(read({ 'retry-after': value }, 200)[1], value).to.equal(undefined)
    }
    expect([saysWhen({ limits: [], notBefore: undefined }), saysWhen({ limits: [], notBefore: 1 })]).to.eql([false, true])
    for (const [left, says] of [
      [0, true],
      [0.5, true],
      [1, false],
    ] as const)
      expect(saysWhen({ limits: [{ name: 'a', left, until: 1, calls: undefined }], notBefore: undefined }), `${left}`).to.equal(says)
  })

  it('what a provider reported holds until its reset, less the calls that it cannot know of', () => {
    const limit = (name: string, left: number, until: number) => ({ name, left, until, calls: 100 })
    const learn = (
      state: ProviderState,
      limits: ReturnType<typeof limit>[],
      more: { at?: number; endedBefore?: number; notBefore?: number; believe?: number } = {},
    ) => {
      const { at = 0, endedBefore = 0, notBefore, believe } = more
      return withReported(state, { believeUpToMs: believe }, { endedBefore }, { limits, notBefore }, at)
    }
    const one = { ...nothingKnown, begunEver: 1 }
    expect(learn(one, [limit('a', 5, 100)]).reported.a).to.deep.include({ left: 5, until: 100 })
    expect(learn({ ...one, begunEver: 4 }, [limit('a', 5, 100)]).reported.a?.left, 'three more may be under way').to.equal(2)
    const known = learn(one, [limit('a', 5, 100)])
    expect(learn({ ...known, begunEver: 4 }, [limit('a', 9, 100)], { at: 50 }).reported.a?.left).to.equal(6)
    expect(learn({ ...known, begunEver: 9 }, [limit('a', 9, 100)], { at: 99 }).reported.a?.left, 'no less than what was known').to.equal(5)
    expect(learn({ ...known, begunEver: 9 }, [limit('a', 9, 200)], { at: 100 }).reported.a?.left, 'that was of another window').to.equal(1)
    expect(Object.keys(learn(known, [limit('b', 1, 200)], { at: 99 }).reported)).to.have.members(['a', 'b'])
    expect(Object.keys(learn(known, [limit('b', 1, 200)], { at: 100 }).reported), 'past its reset').to.eql(['b'])
    const many = learn(
      one,
      Array.from({ length: 40 }, (_, i) => limit(`n${i}`, 1, 100)),
    )
    expect(Object.keys(many.reported)).to.have.length(32)
    expect(learn(one, [limit('a', 0, 1e12)], { believe: 500, at: 10 }).reported.a?.until).to.equal(510)
    const paused = learn(one, [], { notBefore: 1e12, at: 10 })
    expect(paused.pausedUntil, 'believed for an hour').to.equal(3_600_010)
    expect(learn(paused, [], { notBefore: 20, at: 10 }).pausedUntil, 'the longer pause').to.equal(3_600_010)
    expect(learn(one, [], { notBefore: 1e12, believe: 5, at: 10 }).pausedUntil).to.equal(15)
    const refuses = (state: ProviderState, now: number, inBackground = false) =>
      reportedBound.refuses(state, { inBackground } as never, now)?.at
    expect([refuses(paused, 3_600_009), refuses(paused, 3_600_010)]).to.eql([3_600_010, undefined])
    const spent = learn(one, [limit('a', 0, 100)])
    expect([refuses(spent, 99), refuses(spent, 100)]).to.eql([100, undefined])
    const few = (left: number) => learn(one, [limit('a', left, 100)])
    expect([refuses(few(1), 0), refuses(few(20), 0, true), refuses(few(21), 0, true)]).to.eql([undefined, 100, undefined])
    const used = reportedBound.begun?.(few(5), {} as never, { began: 99 } as never)
    expect([used?.reported.a?.left, used?.begunEver]).to.eql([4, 2])
    expect(reportedBound.begun?.(few(5), {} as never, { began: 100 } as never)?.reported).to.eql({})
    const quota = compileQuota({ calls: 100, per: 'day', zone: 'UTC' })
    const own = {
      ...one,
      limits: { [quota.id]: { limit: quota, state: ended(quota, begun(quota, unused, noon, noon + 9), noon, noon + 9) } },
    }
    const others = learn(own, [{ ...limit('x', 40, midnight), name: quota.id }], { at: noon })
    expect([others.others?.[quota.id]?.calls, newOthers(own, others, noon), newOthers(others, others, noon)]).to.eql([59, 59, 0])
    expect([reportedLeft(others, quota, midnight - 1), reportedLeft(others, quota, midnight)]).to.eql([40, Number.POSITIVE_INFINITY])
    expect(reportedBound.setBack?.(nothingKnown, { latest: 5, now: 1 })).to.eql(nothingKnown)
    expect(reportedBound.setBack?.({ ...paused, reported: { a: limit('a', 1, 30) } }, { latest: 20, now: 10 })).to.deep.include({
      pausedUntil: 3_600_000,
      reported: { a: limit('a', 1, 20) },
    })
  })

  it('room comes back with the first call that ends, and in a bucket drop by drop', () => {
    const atOnce = compileLimit({ atOnce: 2 })
    let state = begun(atOnce, begun(atOnce, unused, noon, noon + 50), noon, noon + 20)
    expect([roomIn(atOnce, state, noon, false), roomAgain(atOnce, state, noon, false)]).to.eql([0, { at: noon + 20, sure: false }])
    expect(roomIn(atOnce, state, noon + 20, false)).to.equal(1)
    state = ended(atOnce, begun(atOnce, begun(atOnce, unused, noon, noon + 50), noon, noon + 50), noon, noon + 50)
    expect([roomIn(atOnce, state, noon, false), state.flying]).to.eql([1, [[noon + 50, 1]]])
    const three = begun(atOnce, begun(atOnce, begun(atOnce, unused, noon, noon + 50), noon, noon + 50), noon, noon + 50)
    expect(ended(atOnce, three, noon, noon + 50).flying).to.eql([[noon + 50, 2]])
    const bucket = compileLimit({ calls: 1, per: 'second', burst: 3 })
    let level = unused
    for (let i = 0; i < 3; i++) level = ended(bucket, begun(bucket, level, noon, noon + 9), noon, noon + 9)
    expect([0, 999, 1_000, 1_999, 2_000, 3_000, 9_000].map((ms) => roomIn(bucket, level, noon + ms, false))).to.eql([0, 0, 1, 1, 2, 3, 3])
    expect(roomAgain(bucket, level, noon, false)).to.eql({ at: noon + 1_000, sure: true })
    expect(roomAgain(bucket, level, noon + 400, false)).to.eql({ at: noon + 1_000, sure: true })
  })
})
