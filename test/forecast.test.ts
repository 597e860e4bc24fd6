import { expect } from 'chai'
import { uniformFloat64 } from 'pure-rand/distribution/uniformFloat64'
import { xoroshiro128plus } from 'pure-rand/generator/xoroshiro128plus'
import { forecastQuota, type HourOfCalls } from '../src/core/limits/forecast.js'
import { json, noon, scene } from './support/upstream.js'

const hour = 3_600_000
const week = 7 * 24 * hour
const monday = Date.parse('2026-06-01T00:00:00Z')

/** Calls an hour by chance (Poisson) around a rhythm of the day and the week. */
function traffic(seed: number, hours: number, rhythm: (at: number) => number): HourOfCalls[] {
  const random = xoroshiro128plus(seed)
  return Array.from({ length: hours }, (_, i) => {
    const at = monday + i * hour
    let calls = -1
    let left = rhythm(at)
    while (left > 0) {
      calls++
      left += Math.log(uniformFloat64(random))
    }
    return { at, calls }
  })
}

const office = (at: number) => {
  const [day, time] = [new Date(at).getUTCDay(), new Date(at).getUTCHours()]
  return day === 0 || day === 6 ? 2 : time >= 7 && time < 17 ? 40 : 5
}
const total = (hours: readonly HourOfCalls[]) => hours.reduce((sum, { calls }) => sum + calls, 0)

describe('forecasts', () => {
  it('hold what happens then about eight times in ten, by the hour of the week once there are two weeks of data', () => {
    for (const [known, rhythm, method, least] of [
      [3 * week, office, 'weekday-hour', 0.7],
      [5 * 24 * hour, () => 12, 'even', 0.7],
    ] as const) {
      let [held, error] = [0, 0]
      const rounds = 80
      for (let seed = 1; seed <= rounds; seed++) {
        const all = traffic(seed, (known + 4 * 24 * hour) / hour, rhythm)
        const [past, future] = [all.slice(0, known / hour), all.slice(known / hour)]
        const now = monday + known
        const forecast = forecastQuota({ limit: 1e6, used: 0, now, end: now + 4 * 24 * hour, hours: past, zone: 'UTC' })
        if (!forecast) throw new Error('no forecast')
        expect(forecast.method).to.equal(method)
        const { low, likely, high } = forecast.usedAtReset
        const came = total(future)
        if (came >= low && came <= high) held++
        error += Math.abs(likely - came) / came
        expect(high - low, 'no wider than it helps').to.be.below(likely)
      }
      expect(held / rounds, method).to.be.within(least, 0.99)
      expect(error / rounds, 'mean error').to.be.below(0.1)
    }
  })

  it('tell when a quota runs out, at the earliest and at the latest, and nothing where too little is known', () => {
    const hours = traffic(7, 100, () => 10)
    const now = monday + 100 * hour
    const ask = (limit: number, more: object = {}) =>
      forecastQuota({ limit, used: 1000, now, end: now + 60 * hour, hours, zone: 'UTC', ...more })
    const soon = ask(1300)
    const moments = [soon?.runsOutAt.earliest, soon?.runsOutAt.likely, soon?.runsOutAt.latest].map(
      (at) => (Date.parse(String(at)) - now) / hour,
    )
    expect(moments[1], 'about 30 hours for 300 calls').to.be.within(27, 33)
    expect(moments[0]).to.be.below(moments[1] as number)
    expect(moments[2]).to.be.above(moments[1] as number)
    expect(soon?.leftAtReset.likely).to.equal(0)
    expect(ask(5000)?.runsOutAt).to.eql({ earliest: null, likely: null, latest: null })
    expect(ask(900)?.runsOutAt.likely, 'used up').to.eql(new Date(now))
    expect(ask(5000)?.course.at(-1)).to.deep.include({ at: new Date(now + 60 * hour) })
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
        expect(forecast.with?.usedAtReset.likely).to.be.within(12, 30)
        expect(course.at(-1)).to.eql({ at: new Date(noon + 6 * hour), with: 12, without: 72 })
        const past = await stash.report({ until: noon + 3 * hour })
        expect(past.providers[0]?.quota?.forecast.without?.usedNow, 'as of then').to.equal(36)
      },
      {
        provider: {
          quota: { calls: 100, per: 'day' },
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
