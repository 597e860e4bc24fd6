import { expect } from 'chai'
import fc from 'fast-check'
import { decide, decideOnFailure, type Facts } from '../src/core/decide/decide.js'
import type { StoredTimes } from '../src/core/decide/entry-times.js'
import { compileProvider } from '../src/core/endpoints/compile.js'
import { RuleBook } from '../src/core/endpoints/rule-book.js'
import { noDirectives, type RequestDirectives } from '../src/core/http/request-directives.js'
import { Histogram, latencies } from '../src/core/ledger/histogram.js'
import { MoneySum } from '../src/core/money/money.js'
import { freshUntilOf } from '../src/core/rules/freshness.js'
import { compileKeying } from '../src/core/rules/keying.js'
import { requestKey } from '../src/core/rules/request-key.js'
import { sentRequest } from '../src/core/rules/sent-request.js'
import { periodAround } from '../src/core/time/calendar.js'
import { durationMs, shifted } from '../src/core/time/duration.js'
import { momentMs } from '../src/core/time/moment.js'
import { nextPublication } from '../src/core/time/next-publication.js'
import { scaled } from './support/scale.js'

describe('moments in words', () => {
  const now = Date.parse('2026-03-29T12:00:00+02:00') // the day on which summer time begins in Oslo, a Sunday
  const table: [text: string, iso: string | undefined][] = [
    ['now', '2026-03-29T12:00:00+02:00'],
    ['Today', '2026-03-29T00:00:00+01:00'],
    ['yesterday', '2026-03-28T00:00:00+01:00'],
    ['start of day', '2026-03-29T00:00:00+01:00'],
    ['start of week', '2026-03-23T00:00:00+01:00'],
    ['start of month', '2026-03-01T00:00:00+01:00'],
    ['start of year', '2026-01-01T00:00:00+01:00'],
    ['12 hours ago', '2026-03-28T23:00:00+01:00'],
    ['7 days ago', '2026-03-22T11:00:00+01:00'],
    ['7d', '2026-03-22T11:00:00+01:00'],
    ['2 h ago', '2026-03-29T09:00:00+01:00'],
    ['1 month ago', '2026-02-28T11:00:00+01:00'],
    ['last day', '2026-03-28T00:00:00+01:00'],
    ['last week', '2026-03-16T00:00:00+01:00'],
    ['last month', '2026-02-01T00:00:00+01:00'],
    ['last year', '2025-01-01T00:00:00+01:00'],
    ['last moth', undefined],
    ['forever', undefined],
    ['2026-03-29', '2026-03-29T00:00:00+01:00'],
    ['2026-03-29T06:00', '2026-03-29T06:00:00+02:00'],
    ['2026-03-29T06:00Z', '2026-03-29T06:00:00Z'],
    ['2026-03-29T06:00+05:45', '2026-03-29T06:00:00+05:45'],
    ['2026-02-30', undefined],
    ['start of moth', undefined],
    ['7 ago', undefined],
    ['30.06.2026', undefined],
    ['', undefined],
  ]
  for (const [text, iso] of table) {
    it(`read "${text}" as ${iso ?? 'nothing'}`, () => {
      expect(momentMs(text, now, 'Europe/Oslo')).to.equal(iso === undefined ? undefined : Date.parse(iso))
    })
  }
})

describe('deciding', () => {
  const entry: StoredTimes = {
    ...{ storedAt: 1_000_000, bornAt: 995_000, freshUntil: 1_060_000 },
    ...{ refreshableUntil: 1_060_000, usableUntil: 1_660_000, keepUntil: 1_660_000, mustRevalidate: false, invalidated: false },
  }
  const usual: Facts = {
    mode: 'reuse',
    freshForMs: 60_000,
    staleWhileRevalidateMs: 0,
    staleIfErrorMs: 600_000,
    bypass: undefined,
    excerpt: undefined,
    directives: noDirectives,
    entry,
    varied: false,
    refreshAheadMs: 0,
    neverStale: false,
    heldOff: false,
    budget: 'free',
    now: 1_030_000,
  }

  const wishing = (directives: Partial<RequestDirectives>, more: Partial<Facts> = {}): Partial<Facts> => ({
    directives: { ...noDirectives, ...directives },
    ...more,
  })

  const refreshable: Partial<Facts> = { entry: { ...entry, refreshableUntil: 1_080_000 }, staleWhileRevalidateMs: 20_000 }

  /** Facts that differ from the usual ones, and what is decided. */
  const rows: [facts: Partial<Facts>, decision: string][] = [
    [{}, 'serve hit fresh'],
    [{ now: 1_059_999 }, 'serve hit fresh'],
    [{ now: 1_060_000 }, 'call stale expired'],
    [{ entry: undefined }, 'call uri-miss absent'],
    [{ entry: undefined, varied: true }, 'call vary-miss no-variant'],
    [{ mode: 'measure' }, 'call bypass measuring'],
    [{ freshForMs: undefined }, 'call bypass not-reusable'],
    [{ freshForMs: 20_000 }, 'call stale expired'],
    [{ bypass: 'no-store-asked' }, 'call request no-store-asked'],
    [{ bypass: 'request-excepted' }, 'call bypass request-excepted'],
    [{ excerpt: 'range-asked' }, 'serve hit fresh'],
    [{ excerpt: 'range-asked', now: 1_100_000 }, 'call request range-asked'],
    [{ excerpt: 'head-asked', entry: undefined }, 'call request head-asked'],
    [wishing({ ask: 'reload' }), 'call request reload-asked'],
    [wishing({ ask: 'revalidate' }), 'call request check-asked'],
    [wishing({ ask: 'revalidate' }, { entry: undefined }), 'call uri-miss absent'],
    [wishing({ maxAgeMs: 35_000 }), 'serve hit fresh'],
    [wishing({ maxAgeMs: 34_999 }), 'call request younger-asked'],
    [wishing({ minFreshMs: 30_000 }), 'serve hit fresh'],
    [wishing({ minFreshMs: 30_001 }), 'call request younger-asked'],
    [wishing({ maxStaleMs: 10_000 }, { now: 1_070_000 }), 'serve stale stale-accepted'],
    [wishing({ maxStaleMs: 10_000 }, { now: 1_070_001 }), 'call stale expired'],
    [wishing({ maxStaleMs: 10_000 }, { now: 1_070_000, entry: { ...entry, mustRevalidate: true } }), 'call stale expired'],
    [wishing({ maxStaleMs: 10_000, maxAgeMs: 30_000 }), 'serve stale stale-accepted'],
    [wishing({ anyAge: true }, { now: 9_000_000 }), 'serve stale any-age-asked'],
    [wishing({ storedOnly: 'status' }), 'serve hit fresh'],
    [wishing({ storedOnly: 'status' }, { now: 1_100_000 }), 'refuse error stored-only-asked'],
    [wishing({ storedOnly: 'error', ask: 'revalidate' }), 'refuse error stored-only-asked'],
    [wishing({ storedOnly: 'status' }, { mode: 'measure' }), 'refuse error stored-only-asked'],
    [{ now: 1_070_000, ...refreshable }, 'serve stale refreshing'],
    [{ now: 1_080_000, ...refreshable }, 'call stale expired'],
    [{ now: 1_070_000, ...refreshable, heldOff: true }, 'serve stale held-off'],
    [wishing({ maxAgeMs: 60_000 }, { now: 1_070_000, ...refreshable }), 'call stale expired'],
    [{ now: 1_100_000, heldOff: true }, 'serve stale held-off'],
    [{ now: 1_100_000 }, 'call stale expired'],
    [{ heldOff: true }, 'serve hit fresh'],
    [{ now: 1_660_000, heldOff: true }, 'call stale expired'],
    [{ now: 1_100_000, heldOff: true, staleIfErrorMs: 10_000 }, 'call stale expired'],
    [{ entry: undefined, heldOff: true }, 'call uri-miss absent'],
    [{ now: 1_070_000, ...refreshable, neverStale: true }, 'call stale expired'],
    [{ now: 1_100_000, heldOff: true, neverStale: true }, 'call stale expired'],
    [wishing({ maxStaleMs: 10_000 }, { now: 1_070_000, neverStale: true }), 'call stale expired'],
    [wishing({ anyAge: true }, { now: 9_000_000, neverStale: true }), 'call stale expired'],
    [{ now: 998_000 }, 'serve hit fresh'],
    [{ now: 995_000 }, 'call stale expired'],
    [{ now: 0, heldOff: true }, 'call stale expired'],
    [{ mode: 'offline' }, 'serve hit fresh'],
    [{ mode: 'offline', now: 9_000_000 }, 'serve stale offline'],
    [{ mode: 'offline', freshForMs: undefined }, 'serve stale offline'],
    [{ mode: 'offline', entry: undefined }, 'refuse error offline'],
  ]
  for (const [facts, expected] of rows) {
    it(`does "${expected}" for ${JSON.stringify(facts)}`, () => {
      const decision = decide({ ...usual, ...facts })
      const detail = decision.do === 'serve' ? decision.how : decision.do === 'call' ? decision.fwd : 'error'
      expect(`${decision.do} ${detail} ${decision.reason}`).to.equal(expected)
    })
  }

  it('gives the older answer after a failure just as long as it may be used', () => {
    const at = (now: number) => decideOnFailure({ ...usual, now, fallback: false }).reason
    expect([1_100_000, 1_659_999, 1_660_000, 900_000].map(at)).to.eql([
      'upstream-failed',
      'upstream-failed',
      'no-older-answer',
      'no-older-answer',
    ])
    expect(decideOnFailure({ ...usual, entry: undefined, fallback: false }).do).to.equal('give-up')
    expect(decideOnFailure({ ...usual, entry: undefined, fallback: true }).reason).to.equal('default-given')
    expect(decideOnFailure({ ...usual, now: 1_100_000, fallback: true, failure: 'limit-reached' }).reason).to.equal('limit-reached')
    expect(decideOnFailure({ ...usual, now: 1_100_000, fallback: true, neverStale: true }).do).to.equal('fallback')
  })

  it('never calls an entry fresh for longer than its freshness, wherever the clock jumps (property)', () => {
    fc.assert(
      fc.property(fc.integer({ min: 0, max: 3_000_000 }), fc.integer({ min: 1, max: 100_000 }), (now, freshForMs) => {
        const decision = decide({ ...usual, now, freshForMs })
        const age = now - entry.storedAt
        if (decision.do === 'serve') expect(age).to.be.within(-5_000, Math.min(freshForMs, 60_000) - 1)
      }),
    )
  })
})

describe('rules', () => {
  const common = { mode: 'reuse', sets: {}, refusals: 'throw' } as const
  const provider = compileProvider(
    'ebbline',
    {
      baseUrl: 'https://tides.ebbline.example/v2/',
      secretQuery: ['key'],
      endpoints: {
        rest: { request: 'GET /stations/*' },
        any: { request: 'GET /stations/{id}/{part}' },
        spring: { request: 'GET /stations/{id}/tides?kind=spring' },
        springDay: { request: 'GET /stations/{id}/tides?kind=spring&day=1' },
        tides: { request: 'GET /stations/{id}/tides' },
        first: { request: 'GET /stations/first/{part}' },
        root: { request: 'GET /' },
      },
    },
    common,
  )
  const all = compileProvider(
    'all',
    { baseUrl: 'https://tides.ebbline.example', endpoints: { any: { request: 'GET /v2/{x}' }, put: { request: 'PUT /v2/{x}' } } },
    common,
  )

  it('finds the most specific endpoint, below the longest base URL, by whole segments and fixed query values', () => {
    const rules = new RuleBook([all, provider])
    const nameOf = (url: string, method = 'GET') => {
      const match = rules.match(method, new URL(url, 'https://tides.ebbline.example'))
      return `${match.provider?.name ?? '-'}.${match.endpoint?.name ?? '-'}`
    }
    const expected = {
      '/v2/stations/7/tides?day=1': 'ebbline.tides',
      '/v2/stations/7/tides?day=1&kind=spring': 'ebbline.springDay',
      '/v2/stations/7/tides?kind=spring&day=2': 'ebbline.spring',
      '/v2/stations/7/tides?kind=spring&kind=neap': 'ebbline.tides',
      '/v2/stations/7/notes': 'ebbline.any',
      '/v2/stations/7': 'ebbline.rest',
      '/v2/stations/': 'ebbline.rest',
      '/v2/stations/first/tides': 'ebbline.first',
      '/v2/stations/first/tides/today': 'ebbline.rest',
      '/v2/stations/a%2Fb/tides': 'ebbline.tides',
      '/v2/': 'ebbline.root',
      '/v2/stations': 'all.any',
      '/v2/vessels/7/tides': 'ebbline.-',
      '/v20/stations/7/tides': 'all.-',
      'https://other.example/v2/stations/7/tides': '-.-',
      'http://tides.ebbline.example/v2/stations/7/tides': '-.-',
    }
    expect(Object.fromEntries(Object.keys(expected).map((url) => [url, nameOf(url)]))).to.eql(expected)
    expect(nameOf('/v2/x', 'PUT')).to.equal('all.put')
  })

  it('finds the same endpoint whatever the order they are written in (property)', () => {
    const part = fc.constantFrom('a', 'b', '{x}')
    const template = fc
      .tuple(fc.array(part, { minLength: 1, maxLength: 3 }), fc.constantFrom('', '/*'), fc.constantFrom('', '?k=1', '?k=2', '?k=1&m=1'))
      .map(([parts, rest, query]) => `GET /${parts.join('/')}${rest}${query}`)
    const templates = fc.uniqueArray(template, { minLength: 2, maxLength: 8 })
    const urls = fc.tuple(
      fc.array(fc.constantFrom('a', 'b', 'c'), { minLength: 1, maxLength: 4 }),
      fc.constantFrom('', '?k=1', '?k=2', '?m=1&k=1'),
    )
    fc.assert(
      fc.property(templates, urls, (requests, [segments, query]) => {
        const url = new URL(`https://tides.ebbline.example/${segments.join('/')}${query}`)
        const found = [requests, [...requests].reverse()].map((ordered) => {
          const endpoints = ordered.map((request) => ({ name: request, request }))
          return new RuleBook([compileProvider('p', { baseUrl: url.origin, endpoints }, common)]).match('GET', url).endpoint?.name
        })
        expect(found[0]).to.equal(found[1])
      }),
      { numRuns: scaled(100) },
    )
  })

  it('keys two requests alike only where method, path, parameters and callers are alike (property)', () => {
    const text = fc.string({ unit: fc.constantFrom('a', 'b', '&', '=', '%', '#', '/', ' ', 'ø', '?', '+'), maxLength: 4 })
    const request = fc.record({
      path: text,
      query: fc.array(fc.tuple(fc.constantFrom('a', 'b', 'key'), text), { maxLength: 3 }),
      caller: fc.option(text, { nil: null }),
    })
    const keyOf = ({ path, query, caller }: { path: string; query: [string, string][]; caller: string | null }) => {
      const url = new URL(`https://tides.ebbline.example/v2/${encodeURIComponent(path)}?${new URLSearchParams(query)}`)
      const header = (name: string) => (name === 'authorization' ? caller : null)
      const fields: [string, string][] = caller === null ? [] : [['authorization', caller]]
      const request = sentRequest({ method: 'GET', url, header, fields })
      return requestKey(provider, compileKeying({ provider: 'ebbline', name: 'tides' }, {}), request)
    }
    /** What must be equal for two requests to be the same. */
    const sense = ({ path, query, caller }: Parameters<typeof keyOf>[0]) =>
      JSON.stringify([path, ['a', 'b', 'key'].map((name) => query.filter(([one]) => one === name)), caller])
    fc.assert(
      fc.property(request, request, (one, other) => {
        expect(keyOf(one) === keyOf(other)).to.equal(sense(one) === sense(other))
        expect(keyOf(one), 'the key of a key is itself').to.equal(keyOf(one))
      }),
      { numRuns: scaled(200) },
    )
  })
})

describe('figures', () => {
  it('reads durations with a unit and nothing else', () => {
    const expected: Record<string, number | undefined> = {
      '30 days': 2_592_000_000,
      '1 year': 31_557_600_000,
      '90s': 90_000,
      '1.5 h': 5_400_000,
      '0 s': 0,
      '2 months': 2 * 31 * 86_400_000,
      Forever: 1_000 * 31_557_600_000,
      '9e9 years': undefined,
      '99999 years': 1_000 * 31_557_600_000,
    }
    expect(durationMs(0)).to.equal(0)
    const ends: [from: string, by: string, until: string][] = [
      ['2026-01-31T06:00Z', '1 month', '2026-02-28T06:00Z'],
      ['2026-03-31T23:30Z', '1 month', '2026-04-30T23:30Z'],
      ['2023-11-30T00:00Z', '3 months', '2024-02-29T00:00Z'],
      ['2026-01-15T00:00Z', '12 months', '2027-01-15T00:00Z'],
      ['2026-01-31T00:00Z', '1 day', '2026-02-01T00:00Z'],
    ]
    for (const [from, by, until] of ends) {
      expect(shifted(Date.parse(from), by), `${by} from ${from}`).to.equal(Date.parse(until))
      expect(freshUntilOf({ kind: 'for', duration: by, ms: 0, jitter: 0 }, 'key', {} as never, Date.parse(from))).to.equal(
        Date.parse(until),
      )
    }
    expect(Object.fromEntries(Object.keys(expected).map((words) => [words, durationMs(words)]))).to.eql(expected)
    for (const none of [
      '1 fortnite',
      '',
      '5',
      '-1 s',
      's',
      '1 h garbage',
      '1.5 months',
      -1,
      60,
      Number.NaN,
      Number.POSITIVE_INFINITY,
      null,
      {},
    ]) {
      expect(durationMs(none), String(none)).to.equal(undefined)
    }
  })

  it('finds the next publication right across daylight-saving changes, short months and the end of the week', () => {
    const daily = { daily: '06:00', zone: 'Europe/Oslo' } as const
    const half = { daily: '02:30', zone: 'Europe/Oslo' } as const
    const weekly = { weekly: 'monday', at: '06:00', zone: 'Europe/Oslo' } as const
    const monthly = { monthly: 31, at: '00:00', zone: 'UTC' } as const
    const rows: [timetable: Parameters<typeof nextPublication>[0], now: string, next: string][] = [
      [daily, '2026-06-30T03:59:59.999Z', '2026-06-30T04:00Z'],
      [daily, '2026-06-30T04:00Z', '2026-07-01T04:00Z'],
      [daily, '2026-03-28T05:00Z', '2026-03-29T04:00Z'],
      [daily, '2026-10-24T04:00Z', '2026-10-25T05:00Z'],
      [half, '2026-03-28T12:00Z', '2026-03-29T01:30Z'], // 02:30 is left out that night: 03:30
      [half, '2026-10-24T12:00Z', '2026-10-25T00:30Z'], // 02:30 comes twice: the first
      [half, '2026-10-25T00:30Z', '2026-10-26T01:30Z'],
      [weekly, '2026-06-30T12:00Z', '2026-07-06T04:00Z'],
      [weekly, '2026-07-06T03:00Z', '2026-07-06T04:00Z'],
      [weekly, '2026-07-05T22:30Z', '2026-07-06T04:00Z'],
      [monthly, '2026-06-15T00:00Z', '2026-06-30T00:00Z'],
      [monthly, '2026-06-30T00:00Z', '2026-07-31T00:00Z'],
      [monthly, '2028-02-01T00:00Z', '2028-02-29T00:00Z'],
      [monthly, '2026-12-31T00:00Z', '2027-01-31T00:00Z'],
    ]
    for (const [timetable, now, next] of rows) {
      expect(new Date(nextPublication(timetable, Date.parse(now))).toISOString(), `${JSON.stringify(timetable)} after ${now}`).to.equal(
        new Date(next).toISOString(),
      )
    }
  })

  it('finds calendar periods right across daylight-saving changes, leap days and odd zones', () => {
    const rows: [at: string, per: 'day' | 'month' | 'year', zone: string, start: string, end: string][] = [
      ['2026-03-29T12:00Z', 'day', 'Europe/Oslo', '2026-03-28T23:00Z', '2026-03-29T22:00Z'],
      ['2026-10-25T12:00Z', 'day', 'Europe/Oslo', '2026-10-24T22:00Z', '2026-10-25T23:00Z'],
      ['2026-06-30T22:00Z', 'month', 'Europe/Oslo', '2026-06-30T22:00Z', '2026-07-31T22:00Z'],
      ['2026-06-30T21:59Z', 'month', 'Europe/Oslo', '2026-05-31T22:00Z', '2026-06-30T22:00Z'],
      ['2028-02-29T00:00Z', 'month', 'UTC', '2028-02-01T00:00Z', '2028-03-01T00:00Z'],
      ['2026-06-30T20:00Z', 'day', 'Pacific/Chatham', '2026-06-30T11:15Z', '2026-07-01T11:15Z'],
      ['2026-12-31T23:30Z', 'year', 'Europe/Oslo', '2026-12-31T23:00Z', '2027-12-31T23:00Z'],
    ]
    for (const [at, per, zone, start, end] of rows) {
      expect(periodAround(Date.parse(at), per, zone), `${per} of ${at} in ${zone}`).to.eql({
        start: Date.parse(start),
        end: Date.parse(end),
      })
    }
  })

  it('reads quantiles back within 1%, and merging histograms loses nothing (property)', () => {
    const values = fc.array(fc.double({ min: 0.02, max: 3_600_000, noNaN: true }), { minLength: 1, maxLength: 60 })
    fc.assert(
      fc.property(values, values, fc.constantFrom(0.5, 0.95, 1), (one, other, share) => {
        const [a, b, both] = [one, other, [...one, ...other]].map((some) => {
          const histogram = new Histogram(latencies)
          for (const value of some) histogram.add(value)
          return histogram
        }) as [Histogram, Histogram, Histogram]
        const merged = new Histogram(latencies, JSON.parse(JSON.stringify(a)))
        merged.merge(b)
        expect(JSON.stringify(merged)).to.equal(JSON.stringify(both))
        const sorted = [...one, ...other].sort((x, y) => x - y)
        const exact = sorted[Math.ceil(share * sorted.length) - 1] ?? 0
        expect(both.quantile(share)).to.be.within(exact * 0.99, exact * 1.0101)
      }),
    )
    expect(new Histogram(latencies).quantile(0.5)).to.equal(undefined)
  })

  it('sums money exactly where binary floats do not (property)', () => {
    fc.assert(
      fc.property(fc.array(fc.tuple(fc.integer({ min: 0, max: 99_999 }), fc.integer({ min: 0, max: 100_000 }))), (lines) => {
        const sum = new MoneySum()
        for (const [thousandths, count] of lines) sum.add('EUR', (thousandths / 1000).toFixed(3), count)
        const exact = lines.reduce((total, [thousandths, count]) => total + BigInt(thousandths) * BigInt(count), 0n)
        const digits = exact.toString().padStart(4, '0')
        const expected = `${digits.slice(0, -3)}.${digits.slice(-3)}`.replace(/\.?0+$/, '')
        expect(sum.toMoney()).to.eql(lines.length === 0 ? [] : [{ currency: 'EUR', amount: expected }])
      }),
    )
  })
})
