import { expect } from 'chai'
import { renderText } from 'stashen/render'
import { calibration } from '../bench/forecast.js'
import { forecastQuota } from '../src/core/limits/forecast.js'
import { isLong } from './support/scale.js'
import { json, noon, scene } from './support/upstream.js'

const hour = 3_600_000
const monday = Date.parse('2026-06-01T00:00:00Z')

describe('forecasts', () => {
  it('hold what happens then about eight times in ten, whatever the traffic, or say that too little is known', () => {
    const spans = isLong ? [1, 10, 15, 28] : [1, 15]
    const cells = calibration(300, spans)
    expect(cells).to.have.length(10 * spans.length)
    for (const { kind, days, per, ranged, held, width } of cells) {
      const what = `${kind}, ${days} days, a quota by ${per}`
      const isEnough = per === 'day' ? days >= 10 : days >= 21
      expect(ranged, what).to.equal(isEnough ? 100 : 0)
      if (!isEnough) continue
      expect(held, what).to.be.within(75, 88)
      expect(width, what).to.be.below(/vary/.test(kind) && per === 'month' ? 110 : 65)
    }
  })

  it('tell when a quota runs out, at the earliest and at the latest, and nothing where too little is known', () => {
    const hours = Array.from({ length: 10 * 24 }, (_, i) => ({ at: monday + i * hour, calls: 9 + (Math.floor(i / 24) % 3) }))
    const now = monday + 10 * 24 * hour
    const ask = (limit: number, more: object = {}) =>
      forecastQuota({ limit, used: 1000, now, end: now + 20 * hour, hours, zone: 'UTC', ...more })
    const soon = ask(1100)
    const moments = [soon?.runsOutAt.earliest, soon?.runsOutAt.likely, soon?.runsOutAt.latest].map(
      (at) => (Date.parse(String(at)) - now) / hour,
    )
    expect(moments[1], 'about 11 hours for 100 calls').to.be.within(7, 16)
    expect(moments[0]).to.be.below(moments[1] as number)
    expect(moments[2]).to.be.above(moments[1] as number)
    expect(soon?.leftAtReset.likely).to.equal(0)
    expect(ask(5000)?.runsOutAt).to.eql({ earliest: null, likely: null, latest: null })
    expect(ask(900)?.runsOutAt.likely, 'used up').to.eql(new Date(now))
    expect(ask(5000)?.course.at(-1)).to.deep.include({ at: new Date(now + 20 * hour) })
    expect(ask(5000, { hours: hours.slice(0, 2) })).to.equal(undefined)
    expect(ask(5000, { end: now })).to.equal(undefined)
  })

  it('stand in the report of a period that is not over, with the stash and without it', () =>
    scene(
      async ({ stash, base, clock }) => {
        for (let i = 0; i < 6 * 12; i++) {
          await (await stash.fetch(`${base}/tides/${i % 12}`)).arrayBuffer()
          await clock.sleep(5 * 60_000)
        }
        const quota = (await stash.report()).providers[0]?.quota
        expect(quota).to.deep.include({ limit: 100, used: { measuring: 0, reusing: 12 }, reported: null })
        const { forecast, course } = quota as NonNullable<typeof quota>
        expect(forecast.without?.usedAtReset.likely, '12 an hour for six hours more').to.be.within(130, 160)
        expect(forecast.with?.usedAtReset, 'two an hour more, were there no budget').to.eql({ low: null, likely: 20, high: null })
        const { bill } = (await stash.report()).providers[0] ?? {}
        expect(bill).to.deep.include({
          ...{ currency: 'EUR', with: { low: null, likely: '3', high: null }, without: { low: null, likely: '15.4', high: null } },
          ...{ from: new Date(noon - 12 * hour), until: new Date(noon + 12 * hour) },
        })
        expect(renderText(await stash.report()))
          .to.include('with     about EUR 3.00')
          .and.include('too little data for a range')
        expect(course.at(-1)).to.eql({ at: new Date(noon + 6 * hour), with: 12, without: 72 })
        const past = await stash.report({ until: noon + 3 * hour })
        expect(past.providers[0]?.quota?.forecast.without?.usedNow, 'as of then').to.equal(36)
      },
      {
        provider: {
          quota: { calls: 100, per: 'day' },
          plan: { currency: 'EUR', period: 'day', baseFee: '1', perCall: '0.1' },
          budgets: [{ money: '2', per: 'day' }],
          endpoints: { tides: { request: 'GET /tides/{n}', freshFor: '1 day' } },
        },
      },
    ))

  it('of a bill on which nothing stands yet say what it costs without a call', () =>
    scene(
      async (now) => {
        const { stash, base, clock } = now
        now.answer = json(() => ({}), 404)
        for (let i = 0; i < 6 * 12; i++) {
          await (await stash.fetch(`${base}/tides/${i}`)).arrayBuffer()
          await clock.sleep(5 * 60_000)
        }
        const { quota, bill } = (await stash.report()).providers[0] ?? {}
        expect(bill).to.deep.include({ with: { low: null, likely: '1', high: null } })
        expect(quota?.forecast.with?.usedAtReset?.likely, 'a budget ends no calls that are not billed').to.be.above(130)
        expect(now.received).to.have.length(72)
      },
      {
        provider: {
          quota: { calls: 1_000, per: 'day' },
          plan: { currency: 'EUR', period: 'day', baseFee: '1', perCall: '0.1', notBilled: ['clientError'] },
          budgets: [{ money: '2', per: 'day' }],
          endpoints: { tides: { request: 'GET /tides/{n}', freshFor: '1 day' } },
        },
      },
    ))

  it('take what a provider says is left where that is less', () =>
    scene(
      async (now) => {
        now.answer = (request, response) => json(() => ({}), 200, { 'x-left': '30' })(request, response)
        for (let i = 0; i < 5; i++) {
          await (await now.stash.fetch(`${now.base}/tides/${i}`)).arrayBuffer()
          await now.clock.sleep(hour)
        }
        const quota = (await now.stash.report()).providers[0]?.quota
        expect(quota?.reported).to.eql({ left: 30, fewer: 65 })
        expect(quota?.forecast.with?.usedNow).to.equal(70)
      },
      {
        provider: {
          quota: { calls: 100, per: 'day', remaining: { header: 'x-left' } },
          endpoints: { tides: { request: 'GET /tides/{n}', freshFor: '1 day' } },
        },
      },
    ))
})
