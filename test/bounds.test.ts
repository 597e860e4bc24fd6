import Big from 'big.js'
import { expect } from 'chai'
import type { PlanOptions } from 'stashen'
import { isFresh, isRefreshable } from '../src/core/decide/entry-times.js'
import { Tally } from '../src/core/ledger/tally.js'
import { loadCalendars } from '../src/core/limits/calendars.js'
import { forecastQuota } from '../src/core/limits/forecast.js'
import { compileLimit, quotaId, windowOf } from '../src/core/limits/limit.js'
import { begun, ended, extended, roomAgain, roomIn, setBack, unused } from '../src/core/limits/limit-state.js'
import { nothingKnown, type ProviderState } from '../src/core/limits/provider-state.js'
import { quotaPeriod } from '../src/core/limits/quota.js'
import { reportedBy } from '../src/core/limits/reported-limits.js'
import { statusOf } from '../src/core/limits/status.js'
import { apportioned } from '../src/core/money/apportion.js'
import { billedCalls, costOfCall, type Ending, endingOf, isBilled } from '../src/core/money/billed-calls.js'
import { chargeOfPeriod, chargeOfUnits } from '../src/core/money/period-charge.js'
import { billingPeriod, changesOf, termsAt } from '../src/core/money/plan-periods.js'
import { digitsOf, priceDigits } from '../src/core/money/price-digits.js'
import { noon } from './support/upstream.js'

const iso = (ms: number) => new Date(ms).toISOString().slice(0, 16)

before(loadCalendars)

describe('bounds of money', () => {
  it('a call is billed by how it ended', () => {
    const endings: [result: Parameters<typeof endingOf>[0], status: number | undefined, ending: Ending][] = [
      ['answered', 200, 'answered'],
      ['answered', 301, 'answered'],
      ['answered', 304, 'unmodified'],
      ['answered', 399, 'answered'],
      ['answered', 400, 'clientError'],
      ['answered', 499, 'clientError'],
      ['answered', 500, 'answered'],
      ['answered', undefined, 'answered'],
      ['refused', 429, 'refused'],
      ['refused', 500, 'refused'],
      ['failed', 499, 'noAnswer'],
      ['failed', 500, 'serverError'],
      ['failed', 503, 'serverError'],
      ['failed', undefined, 'noAnswer'],
    ]
    for (const [result, status, ending] of endings) expect(endingOf(result, status), `${result} ${status}`).to.equal(ending)
    const tally = Object.assign(new Tally(), { upAnswered: 1000, upUnmodified: 100, upClientError: 30, upRefused: 7, upFailed: 50 })
    Object.assign(tally, { upServerError: 20, upAbandoned: 5, upUnanswered: 2 })
    const plans: [notBilled: NonNullable<PlanOptions['notBilled']>, calls: number, freeEndings: Ending[]][] = [
      [[], 1062, []],
      [['unmodified'], 962, ['unmodified']],
      [['clientError'], 1032, ['clientError']],
      [['refused'], 1055, ['refused']],
      [['serverError'], 1042, ['serverError']],
      [['noAnswer'], 1030, ['noAnswer']],
      [['failed'], 1010, ['serverError', 'noAnswer']],
      [['failed', 'serverError', 'refused'], 1003, ['serverError', 'noAnswer', 'refused']],
    ]
    const all: Ending[] = ['answered', 'unmodified', 'clientError', 'refused', 'serverError', 'noAnswer']
    for (const [notBilled, calls, free] of plans) {
      expect(billedCalls({ notBilled }, tally), notBilled.join()).to.equal(calls)
      for (const ending of all) {
        expect(isBilled(notBilled, ending), `${notBilled} ${ending}`).to.equal(!free.includes(ending))
        const price = { currency: 'EUR', amount: '0.1' }
        expect(costOfCall({ price, unbilled: notBilled } as never, ending)).to.equal(free.includes(ending) ? undefined : price)
      }
    }
    expect(billedCalls({}, tally)).to.equal(1062)
  })

  it('a period costs what its calls cost by their places in it', () => {
    const graduated = {
      tiers: [{ upTo: 10, perCall: '1' }, { upTo: 20, perCall: '0.5' }, { perCall: '0.1' }],
    }
    const rows: [name: string, terms: object, calls: readonly number[], charge: string, currency?: string][] = [
      ['nothing', {}, [], '0'],
      ['calls without a price', {}, [5], '0'],
      ['a fee', { baseFee: '3', perCall: '1' }, [2, 2], '7'],
      ['included calls', { included: 10, perCall: '1' }, [10], '0'],
      ['one past them', { included: 10, perCall: '1' }, [4, 7], '1'],
      ['packages begun', { packages: { of: 10, price: '5' } }, [10, 1], '10'],
      ['packages full', { packages: { of: 10, price: '5' } }, [10, 10], '10'],
      ['packages past what is included', { included: 3, packages: { of: 10, price: '5' } }, [13], '5'],
      ['the last of a tier', graduated, [10], '10'],
      ['the first of the next', graduated, [10, 1], '10.5'],
      ['all tiers, in parts', graduated, [5, 10, 10], '15.5'],
      ['tiers past what is included', { ...graduated, included: 15 }, [21], '2.6'],
      ['a volume at its end', { ...graduated, tiering: 'volume' }, [4, 6], '10'],
      ['a volume past it', { ...graduated, tiering: 'volume' }, [4, 7], '5.5'],
      ['a volume past what is included', { ...graduated, tiering: 'volume', included: 1 }, [11], '5'],
      ['a volume past all tiers', { tiers: [{ upTo: 10, perCall: '1' }], tiering: 'volume' }, [11], '0'],
      ['a minimum', { perCall: '1', minimum: '5' }, [4], '5'],
      ['a maximum', { perCall: '1', maximum: '5' }, [6], '5'],
      ['both within', { perCall: '1', minimum: '2', maximum: '5' }, [3], '3'],
      ['half up', { perCall: '0.005', rounding: 'half-up' }, [1], '0.01', 'EUR'],
      ['half even', { perCall: '0.005', rounding: 'half-even' }, [1], '0', 'EUR'],
      ['up', { perCall: '0.001', rounding: 'up' }, [1], '0.01', 'EUR'],
      ['down', { perCall: '0.009', rounding: 'down' }, [1], '0', 'EUR'],
      ['no decimals', { perCall: '0.5', rounding: 'half-up' }, [3], '2', 'JPY'],
      ['not rounded without a currency', { perCall: '0.005', rounding: 'half-up' }, [1], '0.005'],
    ]
    for (const [name, terms, calls, charge, currency] of rows) {
      const metered = calls.map((count) => ({ calls: count, terms }))
      expect(chargeOfPeriod(terms, metered, undefined, currency).toFixed(), name).to.equal(charge)
    }
    const before = { baseFee: '3', perCall: '1', maximum: '1' }
    const after = { baseFee: '9', perCall: '2' }
    const changing = [before, after].map((terms) => ({ calls: 2, terms }))
    expect(chargeOfPeriod(before, changing, new Big('0.5')).toFixed(), 'the fee of the first, the rest of the last').to.equal('9.5')
    const units = { units: { tokens: { price: '2', per: 1000 }, rows: { price: '0.1' } } }
    expect(chargeOfUnits(units, { tokens: 1500, rows: 3, others: 9 }).toFixed()).to.equal('3.3')
    expect(chargeOfUnits({}, undefined).toFixed()).to.equal('0')
  })

  it('a billing period begins and ends to the millisecond', () => {
    const rows: [name: string, plan: Partial<PlanOptions>, at: string, start: string, end: string][] = [
      ['a month', {}, '2026-02-28T23:59:59.999Z', '2026-02-01T00:00', '2026-03-01T00:00'],
      ['the next', {}, '2026-03-01T00:00:00Z', '2026-03-01T00:00', '2026-04-01T00:00'],
      ['a year', { period: 'year', anchorDay: 15 }, '2026-03-01T00:00:00Z', '2026-01-01T00:00', '2027-01-01T00:00'],
      ['a day', { period: 'day' }, '2026-03-01T00:00:00Z', '2026-03-01T00:00', '2026-03-02T00:00'],
      ['before the anchor', { anchorDay: 15 }, '2026-03-14T23:59:59.999Z', '2026-02-15T00:00', '2026-03-15T00:00'],
      ['at the anchor', { anchorDay: 15 }, '2026-03-15T00:00:00Z', '2026-03-15T00:00', '2026-04-15T00:00'],
      ['an anchor that a month has not', { anchorDay: 31 }, '2026-02-28T00:00:00Z', '2026-02-28T00:00', '2026-03-31T00:00'],
      ['the day before', { anchorDay: 31 }, '2026-02-27T23:59:59Z', '2026-01-31T00:00', '2026-02-28T00:00'],
      ['in a zone', { anchorDay: 15, zone: 'Europe/Oslo' }, '2026-03-14T23:00:00Z', '2026-03-14T23:00', '2026-04-14T22:00'],
      ['so many days', { period: { days: 30, from: '2026-01-01' } }, '2026-01-30T23:59:59Z', '2026-01-01T00:00', '2026-01-31T00:00'],
      ['the next', { period: { days: 30, from: '2026-01-01' } }, '2026-01-31T00:00:00Z', '2026-01-31T00:00', '2026-03-02T00:00'],
      ['before the first', { period: { days: 30, from: '2026-01-01' } }, '2025-12-31T23:00:00Z', '2025-12-02T00:00', '2026-01-01T00:00'],
      ['credits', { prepaid: { credits: 100, price: '5' } }, '2026-01-31T00:00:00Z', '1970-01-01T00:00', '+275760-09-13T00'],
    ]
    for (const [name, plan, at, start, end] of rows) {
      const period = billingPeriod({ currency: 'EUR', ...plan } as PlanOptions, Date.parse(at))
      expect([iso(period.start), iso(period.end)], name).to.eql([start, end])
    }
  })

  it('prices change at the begin of a day in the zone of the plan, and a price of calls takes the place of the one before', () => {
    const plan = {
      ...{ currency: 'EUR', perCall: '1', included: 5, zone: 'Europe/Oslo' },
      changes: [
        { from: '2026-07-02', packages: { of: 10, price: '3' } },
        { from: '2026-07-01', baseFee: '2' },
      ],
    } as const
    const [first, second] = [Date.parse('2026-06-30T22:00:00Z'), Date.parse('2026-07-01T22:00:00Z')]
    expect(changesOf(plan).sort()).to.eql([first, second])
    expect(changesOf({} as PlanOptions)).to.eql([])
    const held = (at: number) => {
      const { perCall, baseFee, packages, included } = termsAt(plan, at)
      return { perCall, baseFee, packages, included }
    }
    const none = { baseFee: undefined, packages: undefined }
    expect(held(first - 1)).to.eql({ ...none, perCall: '1', included: 5 })
    expect(held(first)).to.eql({ ...none, perCall: '1', baseFee: '2', included: 5 })
    expect(held(second - 1)).to.eql(held(first))
    expect(held(second)).to.eql({ perCall: undefined, baseFee: '2', packages: { of: 10, price: '3' }, included: 5 })
    const prepaid = { currency: 'EUR', prepaid: { credits: 100, price: '5' } } as const
    expect(termsAt(prepaid, 0)).to.eql({ packages: { of: 100, price: '5' } })
    expect(termsAt(prepaid, 0)).to.equal(termsAt(prepaid, 1))
    const days = ['2026-03-01', '2026-01-01', '2026-04-01', '2026-02-01']
    const changing = { currency: 'EUR', perCall: '0', changes: days.map((from) => ({ from, perCall: from.slice(6, 7) })) } as const
    for (const month of [1, 2, 3, 4]) {
      const { start, end } = billingPeriod(changing, Date.UTC(2026, month - 1, 9))
      expect(billingPeriod(changing, start), 'its first moment').to.eql({ start, end })
      expect(termsAt(changing, start).perCall).to.equal(String(month))
    }
  })

  it('amounts are split to the last decimal that counts, and add up', () => {
    const rows: [amount: string, shares: number[], decimals: number, parts: string[]][] = [
      ['1', [1, 1, 1], 2, ['0.34', '0.33', '0.33']],
      ['0.02', [1, 1, 1], 2, ['0.01', '0.01', '0']],
      ['-1', [1, 1, 1], 2, ['-0.34', '-0.33', '-0.33']],
      ['1', [1, 0, 2], 2, ['0.33', '0', '0.67']],
      ['0.01', [0, 1], 2, ['0', '0.01']],
      ['1.005', [1, 1], 2, ['0.503', '0.502']],
      ['10', [1, 3], 0, ['3', '7']],
      ['0', [1, 2], 2, ['0', '0']],
    ]
    for (const [amount, shares, decimals, parts] of rows) {
      const split = apportioned(new Big(amount), shares, decimals) ?? []
      expect(split.map((part) => part.toFixed())).to.eql(parts)
      expect(split.reduce((sum, part) => sum.plus(part), new Big(0)).toFixed()).to.equal(amount)
    }
    expect(apportioned(new Big(1), [0, 0], 2)).to.equal(undefined)
    expect([digitsOf('EUR'), digitsOf('JPY'), digitsOf('BHD')]).to.eql([2, 0, 3])
    const digits: [plan: Partial<PlanOptions>, digits: number][] = [
      [{}, 2],
      [{ currency: 'JPY' }, 0],
      [{ currency: 'JPY', perCall: '5' }, 0],
      [{ perCall: '0.0005' }, 4],
      [{ baseFee: '1.123' }, 3],
      [{ minimum: '1.12345' }, 5],
      [{ maximum: '1.12345' }, 5],
      [{ packages: { of: 3, price: '0.00001' } }, 5],
      [{ units: { tokens: { price: '2', per: 1000 } } }, 3],
      [{ units: { tokens: { price: '0.002' } } }, 3],
      [{ perCall: undefined, tiers: [{ upTo: 1, perCall: '1' }, { perCall: '0.001' }] } as Partial<PlanOptions>, 3],
      [{ changes: [{ from: '2026-01-01', perCall: '0.0000001' }] }, 7],
    ]
    for (const [plan, expected] of digits)
      expect(priceDigits({ currency: 'EUR', ...plan } as PlanOptions), JSON.stringify(plan)).to.equal(expected)
  })
})

describe('bounds of time', () => {
  it('an entry is fresh, or may be given out while it is refreshed, up to the millisecond', () => {
    const entry = {
      storedAt: noon,
      bornAt: noon,
      freshUntil: noon + 100,
      refreshableUntil: noon + 300,
      usableUntil: noon + 500,
      keepUntil: noon + 900,
    }
    const sound = { ...entry, mustRevalidate: false, invalidated: false }
    const rows: [at: number, freshForMs: number, fresh: boolean, refreshable: boolean][] = [
      [0, 1000, true, true],
      [99, 1000, true, true],
      [100, 1000, false, true],
      [299, 1000, false, true],
      [300, 1000, false, false],
      [49, 50, true, true],
      [50, 50, false, true],
      [249, 50, false, true],
      [250, 50, false, false],
      [-4_999, 1000, true, true],
      [-5_000, 1000, false, false],
    ]
    for (const [at, freshForMs, fresh, refreshable] of rows) {
      expect(isFresh(sound, freshForMs, noon + at), `fresh at ${at}`).to.equal(fresh)
      const rule = { freshForMs, staleWhileRevalidateMs: 200 }
      expect(isRefreshable(sound, rule, noon + at), `refreshable at ${at}`).to.equal(refreshable)
      expect(isFresh({ ...sound, invalidated: true }, freshForMs, noon + at)).to.equal(false)
      expect(isRefreshable({ ...sound, invalidated: true }, rule, noon + at)).to.equal(false)
    }
  })

  it('limits are compiled to windows, and leave background calls their share', () => {
    const rows: [options: Parameters<typeof compileLimit>[0], inBackground: number, id: string, name: string][] = [
      [{ calls: 30, per: 'minute' }, 24, 'rolling 60000', '30 calls per minute'],
      [{ calls: 30, per: 'minute', window: 'fixed' }, 24, 'fixed 60000', '30 calls per minute, fixed'],
      [{ calls: 1, per: 'second' }, 1, 'rolling 1000', '1 calls per second'],
      [{ calls: 1, per: 'second', reserved: 1 }, 0, 'rolling 1000', '1 calls per second'],
      [{ calls: 10, per: '5 s', reserved: 0 }, 10, 'rolling 5000', '10 calls per 5 s'],
      [{ calls: 10, per: 'second', burst: 20 }, 16, 'bucket 1000', '10 calls per second, 20 in a burst'],
      [{ atOnce: 4 }, 3, 'at-once', '4 at once'],
    ]
    for (const [options, inBackground, id, name] of rows) {
      expect(compileLimit(options, undefined), name).to.include({ inBackground, id, name, providerWide: true })
      expect(compileLimit(options, 'tides'), name).to.include({ id: `tides ${id}`, name: `${name} to tides`, providerWide: false })
    }
  })

  it('what is reported of a limit as large as the quota is of the quota', () => {
    const quota = { calls: 5000, per: 'month', zone: 'UTC' } as const
    const said = (calls: number, header?: string) => {
      const fields = [
        ['x-ratelimit-limit', `${calls}`],
        ['x-ratelimit-remaining', '40'],
        ['x-ratelimit-reset', '60'],
        ['x-left', '7'],
      ] as const
      return reportedBy(200, fields, noon, { ...quota, header, endAt: (now) => quotaPeriod(quota, now).end }).limits.map(
        ({ name, left, until }) => [name === quotaId('month'), left, until - noon],
      )
    }
    expect(said(5000)).to.eql([[true, 40, 60_000]])
    expect(said(100)).to.eql([[false, 40, 60_000]])
    expect(said(100, 'x-left')).to.eql([
      [false, 40, 60_000],
      [true, 7, Date.parse('2026-07-01T00:00:00Z') - noon],
    ])
    expect([{ calls: 3, per: '5 s' }, { atOnce: 4 }, { calls: 3, per: 'second', burst: 5 }].map((one) => windowOf(one as never))).to.eql([
      { calls: 3, perMs: 5_000 },
      undefined,
      undefined,
    ])
    const limit = compileLimit({ calls: 30, per: 'minute' }, undefined)
    const used = { ...nothingKnown, limits: { [limit.id]: { limit, state: begun(limit, unused, noon, noon + 9_000) } } } as ProviderState
    const [status] = statusOf('ebbline', used, noon).limits
    expect([status?.left, status?.leftInBackground, status?.roomAgainAt]).to.eql([29, 23, null])
    const two = begun(limit, extended(limit, begun(limit, unused, noon, noon + 9_000), noon + 9_000, noon + 20_000), noon, noon + 9_000)
    expect(
      two.flying.map(([, calls]) => calls),
      'each with its own end',
    ).to.eql([1, 1])
    expect(
      begun(limit, two, noon, noon + 9_000).flying.map(([, calls]) => calls),
      'one end, one entry',
    ).to.have.members([1, 2])
    const hourly = compileLimit({ calls: 5, per: 'hour', window: 'aligned' }, undefined)
    const one = ended(hourly, begun(hourly, unused, noon, noon + 9_000), noon + 2_000, noon + 9_000)
    const back = setBack(hourly, one, { latest: noon + 2_000, now: noon + 1_000 })
    expect(roomIn(hourly, back, noon + 1_000, false), 'a clock set back within a window').to.equal(4)
    const before = setBack(hourly, one, { latest: noon + 2_000, now: noon - 1_000 })
    expect(roomIn(hourly, before, noon - 1_000, false), 'a clock set back past the begin of the window').to.equal(4)
    expect([roomIn(limit, two, noon + 69_000, false), roomIn(limit, two, noon + 80_600, false)]).to.eql([29, 30])
  })

  it('a status shows pauses, hold-offs and what is reported until they end, and not then', () => {
    const state: ProviderState = {
      ...nothingKnown,
      pausedUntil: noon + 10,
      reported: { hourly: { name: 'hourly', left: -1, until: noon + 20 } },
      holdOffs: { tides: { failures: 2, until: noon + 30, trialUntil: noon + 40 }, 'quote /a': { failures: 1, until: noon + 5 } },
    } as unknown as ProviderState
    const shown = (at: number) => {
      const { pausedUntil, reported, holdOffs } = statusOf('ebbline', state, noon + at)
      return [pausedUntil?.getTime(), reported.map(({ left }) => left), holdOffs.map((one) => `${one.endpoint} ${one.path} ${one.state}`)]
    }
    expect(shown(0)).to.eql([noon + 10, [0], ['quote /a held-off', 'tides null held-off']])
    expect(shown(9)[0]).to.equal(noon + 10)
    expect(shown(10)).to.eql([undefined, [0], ['quote /a over', 'tides null held-off']])
    expect(shown(19)[1]).to.eql([0])
    expect(shown(20)[1]).to.eql([])
    expect(shown(30)[2]).to.eql(['quote /a over', 'tides null trying'])
    expect(shown(40)[2]).to.eql(['quote /a over', 'tides null over'])
  })

  it('a call counts in a limit from its begin, and from its end for the length of a window, to the millisecond', () => {
    type Step = ['begins' | 'ends' | 'lasts', at: number]
    // biome-ignore format: a row a line
    const rows: [
      name: string,
      options: Parameters<typeof compileLimit>[0],
      steps: Step[],
      rooms: [at: number, room: number, again?: number][],
    ][] = [
      ['rolling', { calls: 3, per: 'second' }, [['begins', 0], ['ends', 100]], [[0, 2], [100, 2], [1_099, 2], [1_100, 3]]],
      [
        'two ended',
        { calls: 2, per: 'second' },
        [
          ['begins', 0],
          ['ends', 100],
          ['begins', 200],
          ['ends', 300],
        ],
        [
          [300, 0, 1_100],
          [1_099, 0, 1_100],
          [1_100, 1],
          [1_299, 1],
          [1_300, 2],
        ],
      ],
      [
        'under way',
        { calls: 1, per: 'second' },
        [['begins', 0]],
        [
          [0, 0, 9_000],
          [8_999, 0, 9_000],
          [9_000, 0, 10_000],
          [9_999, 0, 10_000],
          [10_000, 1],
        ],
      ],
      ['fixed', { calls: 3, per: 'second', window: 'fixed' }, [['begins', 0], ['ends', 100]], [[100, 2], [1_099, 2], [1_100, 3]]],
      [
        'fixed, ended past it',
        { calls: 3, per: 'second', window: 'fixed' },
        [
          ['begins', 0],
          ['ends', 100],
          ['begins', 900],
          ['ends', 1_050],
        ],
        [
          [1_050, 1],
          [1_099, 1],
          [1_100, 2],
          [2_049, 2],
          [2_050, 3],
        ],
      ],
      ['aligned', { calls: 3, per: 'second', window: 'aligned' }, [['begins', 0], ['ends', 100]], [[999, 2], [1_000, 3]]],
      [
        'aligned, over its end',
        { calls: 1, per: 'second', window: 'aligned' },
        [
          ['begins', 900],
          ['ends', 1_100],
        ],
        [
          [1_100, 0, 2_000],
          [1_999, 0, 2_000],
          [2_000, 1],
        ],
      ],
      [
        'bucket',
        { calls: 2, per: 'second', burst: 2 },
        [
          ['begins', 0],
          ['begins', 0],
          ['ends', 0],
          ['ends', 0],
        ],
        [
          [0, 0, 500],
          [499, 0, 500],
          [500, 1],
          [999, 1],
          [1_000, 2],
          [9_000, 2],
        ],
      ],
      ['at once', { atOnce: 1 }, [['begins', 0]], [[0, 0, 9_000], [8_999, 0, 9_000], [9_000, 1]]],
      ['at once, ended', { atOnce: 1 }, [['begins', 0], ['ends', 100]], [[100, 1]]],
      [
        'takes longer',
        { calls: 1, per: 'second' },
        [
          ['begins', 0],
          ['lasts', 20_000],
        ],
        [
          [9_000, 0, 20_000],
          [20_999, 0, 21_000],
          [21_000, 1],
        ],
      ],
    ]
    for (const [name, options, steps, rooms] of rows) {
      const limit = compileLimit({ ...options, reserved: 0 } as typeof options, undefined)
      let state = unused
      let id = noon + 9_000
      for (const [step, at] of steps) {
        if (step === 'begins') state = begun(limit, state, noon + at, noon + 9_000)
        else if (step === 'ends') state = ended(limit, state, noon + at, noon + 9_000)
        else {
          state = extended(limit, state, id, noon + at)
          id = noon + at
        }
      }
      for (const [at, room, again] of rooms) {
        expect(roomIn(limit, state, noon + at, false), `${name} at ${at}`).to.equal(room)
        if (again !== undefined) expect(roomAgain(limit, state, noon + at, false).at - noon, `${name} again after ${at}`).to.equal(again)
      }
    }
    const shared = compileLimit({ calls: 10, per: 'second', reserved: 0.3 }, undefined)
    let state = unused
    for (let i = 0; i < 6; i++) state = begun(shared, state, noon, noon + 9_000)
    expect([roomIn(shared, state, noon, false), roomIn(shared, state, noon, true)]).to.eql([4, 1])
    state = begun(shared, state, noon, noon + 9_000)
    expect([roomIn(shared, state, noon, true), roomAgain(shared, state, noon, true)]).to.eql([0, { at: noon + 9_000, sure: false }])
  })

  it('a forecast is made of three hours at least, ends with the reset, and says now where nothing is left', () => {
    const hour = 3_600_000
    const hours = (n: number, calls = 10) => Array.from({ length: n }, (_, i) => ({ at: noon - (n - i) * hour, calls }))
    const input = { limit: 130, used: 100, now: noon, end: noon + 5 * hour, hours: hours(3), zone: 'UTC' }
    expect(forecastQuota({ ...input, hours: hours(2) })).to.equal(undefined)
    expect(forecastQuota({ ...input, end: noon })).to.equal(undefined)
    const forecast = forecastQuota(input)
    expect(forecast).to.deep.include({ method: 'even-pace', drawnFromMs: 3 * hour, usedNow: 100 })
    expect(forecast?.usedAtReset.likely).to.equal(150)
    expect(forecast?.course.map(({ at, likely }) => [at.getTime() - noon, likely])).to.eql(
      [1, 2, 3, 4, 5].map((n) => [n * hour, 100 + 10 * n]),
    )
    expect(forecast?.runsOutAt.likely).to.eql(new Date(noon + 3 * hour))
    expect(forecast?.leftAtReset.likely).to.equal(0)
    expect(forecastQuota({ ...input, limit: 151 })?.runsOutAt.likely).to.equal(null)
    expect(forecastQuota({ ...input, limit: 151 })?.leftAtReset.likely).to.equal(1)
    const spent = forecastQuota({ ...input, limit: 100 })
    expect(spent?.runsOutAt).to.eql({ earliest: new Date(noon), likely: new Date(noon), latest: new Date(noon) })
    for (const [steps, points] of [
      [60, 60],
      [61, 31],
      [120, 60],
      [121, 41],
    ] as const) {
      const { course = [] } = forecastQuota({ ...input, end: noon + steps * hour }) ?? {}
      expect([course.length, course.at(-1)?.at], `${steps} hours`).to.eql([points, new Date(noon + steps * hour)])
    }
    const half = forecastQuota({ ...input, now: noon + hour / 2, end: noon + hour })
    expect(half?.usedAtReset.likely, 'half an hour').to.equal(105)
    expect(forecastQuota({ ...input, hours: hours(168 - 1) })?.method).to.equal('even-pace')
    const weekly = forecastQuota({
      ...input,
      hours: hours(2 * 168).map((one) => ({ ...one, calls: new Date(one.at).getUTCHours() === 13 ? 30 : 2 })),
    })
    expect(weekly?.method).to.equal('same-day')
    expect(weekly?.course.map(({ likely }) => likely)).to.eql([102, 132, 134, 136, 138])
  })

  it('a forecast goes on like this day compared with the same weekdays, or along the line of the weeks, as wide as these were off', () => {
    const hour = 3_600_000
    const known = (counts: readonly number[]) => counts.map((calls, i) => ({ at: noon - (counts.length - i) * hour, calls }))
    const hours = (...levels: [calls: number, length: number][]) => levels.flatMap(([calls, length]) => Array<number>(length).fill(calls))
    const week = 7 * 24
    const ask = (counts: readonly number[], end: number, more = {}) =>
      forecastQuota({ limit: 1_000, used: 100, now: noon, end: noon + end * hour, zone: 'UTC', hours: known(counts), ...more })
    const equal = { low: 150, likely: 150, high: 150 }
    expect(ask(hours([10, 10 * 24]), 5), 'ten equal days').to.deep.include({ method: 'same-day', usedAtReset: equal })
    const busy = ask(hours([10, 9 * 24 + 12], [20, 12]), 5)?.usedAtReset
    expect(busy?.likely, 'a day twice as busy').to.equal(Math.round(100 + (50 * (25 + 240)) / (25 + 120)))
    // biome-ignore format: a row a line
    const lines: [per: number[], ahead: number][] = [[[10, 10, 10], 2], [[10, 20, 40], 7], [[10, 10, 20], 7], [[12, 10, 13, 8], 7], [[12, 10, 13, 8], 14]]
    for (const [per, ahead] of lines) {
      const length = Math.min(7, ahead) * 24
      const points = per.map((calls, i) => ({ x: i - per.length + length / week / 2, y: Math.log(calls * length + 0.5) }))
      const [x, y] = [points.reduce((sum, one) => sum + one.x, 0) / per.length, points.reduce((sum, one) => sum + one.y, 0) / per.length]
      const squares = points.reduce((sum, one) => sum + (one.x - x) ** 2, 0)
      const slope = points.reduce((sum, one) => sum + (one.x - x) * (one.y - y), 0) / squares
      const variance = points.reduce((sum, one) => sum + (one.y - y - slope * (one.x - x)) ** 2, 0) / (per.length - 2)
      const middle = (ahead / 7 / 2 - x) ** 2 / squares
      const deviation = Math.sqrt(variance * (1 + 2 / per.length) * (1 / Math.max(1, ahead / 7) + 1 / per.length + middle))
      const factor = Math.exp((per.length === 3 ? 3.078 : 1.886) * deviation)
      const forecast = ask(hours(...per.map((calls): [number, number] => [calls, week])), ahead * 24, { limit: 1e6 })
      expect(forecast?.method).to.equal('weekly-trend')
      const { low, likely, high } = forecast?.usedAtReset ?? { low: 0, likely: 0, high: 0 }
      const levels = Array.from({ length: ahead * 24 }, (_, i) => Math.exp(y + slope * ((i + 0.5) / week - x)) / length)
      const mean = 100 + levels.reduce((sum, one) => sum + one, 0)
      expect(likely / mean, `${per} for ${ahead} days`).to.be.within(0.97, 1.03)
      expect(Math.abs(Number(low) - 100 - (likely - 100) / factor), `${per} for ${ahead} days`).to.be.below(2)
      expect(Number(high) / (100 + (likely - 100) * factor), `${per} for ${ahead} days`).to.be.within(0.999, 1.001)
    }
    // biome-ignore format: a row a line
    const few = [[hours([10, 2 * week]), 50, 'same-hours'], [hours([10, 24]), 5, 'even-pace'], [hours([10, 4 * week]), 60 * 24, 'same-hours']] as const
    for (const [counts, end, method] of few)
      expect(ask(counts, end), 'too little for a range').to.deep.include({
        method,
        usedAtReset: { low: null, likely: 100 + 10 * end, high: null },
      })
    const rush = ask(hours([10, 3 * week], [10_000, 1], [10, week - 1]), 10 * 24)
    expect([rush?.method, rush?.usedAtReset.high], 'a single rush tells no trend').to.eql(['same-hours', null])
    expect(ask(hours([10, 10 * 24]), 5, { most: 120 })?.usedAtReset, 'what may leave').to.eql({ low: 120, likely: 120, high: 120 })
    expect(ask(hours([10, 10 * 24]), 5, { limit: 110 })?.leftAtReset).to.eql({ low: 0, likely: 0, high: 0 })
  })

  it('a reset is told as a moment or a time from now, by its size', () => {
    const early = 1e12 - 60_000 // in 2001, when the seconds since 1970 came to a billion
    const rows: [reset: string, inMs: number | undefined, now?: number][] = [
      ['0', undefined],
      ['1.5', 1_500],
      ['2678400', 31 * 86_400_000],
      ['2678401', undefined],
      ['1000000000', 60_000, early],
      ['999999999', undefined, early],
      ['1000000000000', 60_000, early],
      [`${noon / 1000 + 60}`, 60_000],
      [`${noon + 60_000}`, 60_000],
      [`${noon - 60_000}`, undefined],
      [new Date(noon + 60_000).toUTCString(), 60_000],
      [new Date(noon + 60_000).toISOString(), 60_000],
      ['soon', undefined],
      ['', undefined],
    ]
    for (const [reset, inMs, now = noon] of rows) {
      const fields = [
        ['x-ratelimit-remaining', '0'],
        ['x-ratelimit-reset', reset],
      ] as const
      const [limit] = reportedBy(429, fields, now, undefined).limits
      expect(limit && limit.until - now, reset).to.equal(inMs)
    }
  })
})
