import { expect } from 'chai'
import { uniformFloat64 } from 'pure-rand/distribution/uniformFloat64'
import { xoroshiro128plus } from 'pure-rand/generator/xoroshiro128plus'
import { isStashenError, type Mode, memoryStore, type OperationOptions, openStash, type ProviderOptions } from 'stashen'
import { FastClock } from 'stashen/harbour'
import { renderText } from 'stashen/render'
import { isLong } from './support/scale.js'
import { json, noon, scene, tides } from './support/upstream.js'

const minute = 60_000

describe('rules and modes', () => {
  it('take what holds from sets and defaults, the nearer over the farther', () => {
    const provider: ProviderOptions = {
      defaults: { set: 'brief', staleIfError: '1 hour' },
      endpoints: {
        plain: { request: 'GET /plain' },
        own: { request: 'GET /own', freshFor: '1 s' },
        long: { request: 'GET /long', set: ['brief', 'daily'] },
        never: { request: 'GET /never', reuse: 'never' },
        post: { request: 'POST /plain' },
      },
    }
    const sets = { brief: { freshFor: '1 min' }, daily: { freshFor: '1 day' } } as const
    return scene(
      async ({ stash, base }) => {
        const ttl = async (path: string, init?: RequestInit) =>
          /ttl=(\d+)/.exec((await stash.fetch(base + path, init)).headers.get('cache-status') ?? '')?.[1]
        expect([await ttl('/plain'), await ttl('/own'), await ttl('/long'), await ttl('/never')]).to.eql(['60', '1', '86400', undefined])
        expect(await ttl('/plain', { method: 'POST' }), 'freshness from defaults holds for GET only').to.equal(undefined)
        const find = stash.operation('ebbline.find', async () => 1, { set: 'daily' })
        expect((await find.withOutcome()).outcome.freshUntil).to.eql(new Date('2026-07-01T12:00Z'))
      },
      { provider, config: { sets } },
    )
  })

  it('measure what reuse would have saved, and how often an answer had changed', () =>
    scene(
      async (now) => {
        const { stash, clock, base, received } = now
        const answers = ['high', 'high', 'high', 'low', 'low']
        now.answer = json(() => answers[received.length - 1])
        for (const pause of [0, 30_000, 31_000, minute, minute]) {
          await clock.sleep(pause)
          const response = await stash.fetch(`${base}/tides/today`)
          expect(response.headers.get('cache-status')).to.equal('stashen; fwd=bypass; fwd-status=200; detail=measuring')
          await response.text()
        }
        await stash.fetch(`${base}/notes`)
        expect(received).to.have.length(6)
        const { totals } = await stash.report()
        expect(totals.with).to.equal(null)
        expect(totals.without).to.deep.include({ asked: 6, upstream: 6, wouldHit: 1, changed: 1, unchanged: 2 })
        expect('changes' in totals.without && totals.without.changes, 'at 30, 61 and twice 60 seconds, within 2%').to.eql([
          { upToMs: 60_000, changed: 1, unchanged: 3 },
        ])
        expect(renderText(await stash.report())).to.match(/changed by +1 min\n.*tides +25%/)
        expect(totals.couldSave).to.eql({ calls: 1, upstreamCalls: 1, money: [{ currency: 'EUR', amount: '0.1' }], timeMs: null })
      },
      {
        provider: { plan: { currency: 'EUR', perCall: '0.1' }, endpoints: { tides, notes: { request: 'GET /notes' } } },
        config: { mode: 'measure' },
      },
    ))

  it('measure what reuse would get wrong: a key that lacks a parameter, and a lifetime that is too long, with an example', () =>
    scene(
      async (now) => {
        const { stash, clock, base, received } = now
        now.answer = (request, response) =>
          json(() => (request.url?.startsWith('/keyless') ? request.url : Math.floor(received.length / 2)))(request, response)
        const ask = async (path: string) => (await stash.fetch(`${base}${path}`)).text()
        for (const day of [1, 1, 2, 1]) await ask(`/keyless?day=${day}&api_key=SESAME-0pen`)
        for (let i = 0; i < 4; i++) {
          await clock.sleep(10_000)
          await ask('/long')
        }
        now.answer = json(() => 'too many', 429) // which is no change
        await ask('/long')
        const report = await stash.report()
        const endpoints = report.providers[0]?.endpoints ?? []
        expect(
          endpoints.map(({ endpoint, without }) => [
            endpoint,
            without.asked,
            'wouldHit' in without && [without.wouldHit, without.wouldBeOutdated],
          ]),
        ).to.eql([
          ['keyless', 4, [3, 1]],
          ['long', 5, [4, 3]],
        ])
        expect(endpoints.map(({ couldSave }) => couldSave?.money[0]?.amount)).to.eql(['0.3', '0.4'])
        expect(JSON.stringify(report)).to.not.include('SESAME')
        const [keyless, long] = endpoints.map((one) => one.outdatedExample)
        expect([keyless?.first.request, keyless?.second.request].map((url) => url?.replace(/.*[?&]day=(\d).*/, '$1'))).to.eql(['1', '2'])
        expect((long?.second.at.getTime() ?? 0) - (long?.first.at.getTime() ?? 0)).to.equal(10_000)
        const text = renderText(report).replace(/\s+/g, ' ')
        expect(text).to.include('ebbline.keyless: reuse would have given 1 outdated answer of 3: its key may lack something')
        expect(text).to.include('ebbline.long: reuse would have given 3 outdated answers of 4: its lifetime may be too long')
      },
      {
        provider: {
          plan: { currency: 'EUR', perCall: '0.1' },
          endpoints: {
            keyless: { request: 'GET /keyless', freshFor: '1 min', keyedBy: { query: [] } },
            long: { request: 'GET /long', freshFor: '1 hour' },
          },
        },
        config: { mode: 'measure' },
      },
    ))

  it('predict what reuse then does with the same traffic of two processes: within 2% in calls and money, within 5% where it refreshes and repeats', async () => {
    const plan = { currency: 'EUR', period: 'month', included: 400, tiers: [{ upTo: 1_500, perCall: '0.01' }, { perCall: '0.004' }], units: { tokens: { price: '0.4', per: 1_000 } }, notBilled: ['noAnswer'] } as const // biome-ignore format: a row a line
    const rules: [name: string, rule: OperationOptions<(key: string) => Promise<unknown>>, keys: number][] = [
      ['tides', { freshFor: '10 min' }, 30],
      ['position', { freshFor: '1 min', sliding: { upTo: '5 min' } }, 12],
      ['answers', { freshFor: '20 min', units: { tokens: { at: '/tokens' } } }, 60],
    ]
    const calls = isLong ? 6_000 : 1_200
    const renewing: typeof rules = [
      ['tides', { freshFor: '10 min', refreshAhead: '2 min', retries: 2 }, 30],
      ['position', { freshFor: '1 min', staleWhileRevalidate: '2 min', retries: 1 }, 12],
      ['answers', { freshFor: '20 min', refreshAhead: '5 min', units: { tokens: { at: '/tokens' } } }, 60],
    ]
    const play = async (mode: Mode, operations: typeof rules, failing: boolean) => {
      const clock = new FastClock(noon)
      const random = xoroshiro128plus(7)
      const store = Object.assign(memoryStore(), { close() {} })
      const open = () => openStash({ clock, store, mode, providers: { pintle: { plan, defaults: { holdOff: '1 ms' } } }, warn: () => {} })
      const [stash, other] = [await open(), await open()]
      const asked = operations.map(([name, rule, keys]) => {
        const call = async (key: string): Promise<unknown> => {
          await clock.sleep(200)
          if (failing && clock.now() % (30 * minute) < minute / 2) throw new Error('down')
          return { key, tokens: 300 + key.length * 100 }
        }
        return { calls: [stash, other].map((one) => one.operation(`pintle.${name}`, call, rule)), keys }
      })
      await clock.run(
        (async () => {
          const running: Promise<unknown>[] = []
          for (let i = 0; i < calls; i++) {
            const { calls, keys } = asked[Math.floor(uniformFloat64(random) ** 2 * asked.length)] as (typeof asked)[number]
            const key = `k${Math.floor(uniformFloat64(random) ** 2 * keys)}`
            running.push(calls[i % 2]?.(key).catch(() => undefined) as Promise<unknown>)
            await clock.sleep(Math.floor(uniformFloat64(random) * 8_000))
          }
          await Promise.all(running)
        })(),
      )
      await other.close()
      const { totals } = await stash.report()
      await stash.close()
      return totals
    }
    for (const [operations, within] of [
      [rules, 0.02],
      [renewing, 0.05],
    ] as const) {
      // biome-ignore format: a row a line
      const [measured, reused] = [await play('measure', operations, operations === renewing), await play('reuse', operations, operations === renewing)]
      const predicted = measured.without.upstream - (measured.couldSave?.upstreamCalls ?? 0)
      const money = Number(measured.without.money[0]?.amount) - Number(measured.couldSave?.money[0]?.amount)
      expect(reused.with?.asked).to.equal(measured.without.asked)
      expect(reused.with?.upstream, 'enough to compare').to.be.within(calls / 12, (calls * 2) / 3)
      expect(predicted / (reused.with?.upstream ?? 0), `calls ${predicted} ${reused.with?.upstream}`).to.be.within(1 - within, 1 + within)
      expect(money / Number(reused.with?.money[0]?.amount), `money ${money} ${reused.with?.money[0]?.amount}`).to.be.within(
        1 - within,
        1 + within,
      )
    }
  })

  it('measure nothing as reused that was seen by a clock a year ahead', async () => {
    const store = Object.assign(memoryStore(), { close() {} })
    const calls = async (at: number, often: number) => {
      await using stash = await openStash({ clock: new FastClock(at), store, mode: 'measure', warn: () => {} })
      const find = stash.operation('skerrylight.find', async (name: string) => name, { freshFor: '1 day' })
      for (let i = 0; i < often; i++) await find('Marram')
      return (await stash.report({ since: at - minute, until: at + minute })).totals.couldSave?.calls
    }
    expect([await calls(noon + 365 * 1_440 * minute, 1), await calls(noon, 3)]).to.eql([0, 2])
  })

  it('mix by provider and endpoint: what only measures is never reused', () =>
    scene(
      async ({ stash, base, received }) => {
        for (let i = 0; i < 3; i++) for (const path of ['/tides/today', '/watched']) await (await stash.fetch(base + path)).text()
        expect(received).to.eql(['GET /tides/today', 'GET /watched', 'GET /watched', 'GET /watched'])
        const [provider] = (await stash.report()).providers
        expect(provider?.endpoints.map((one) => [one.endpoint, one.saved?.calls, one.without.upstream])).to.eql([
          ['tides', 2, 3],
          ['watched', 0, 3],
        ])
      },
      { provider: { endpoints: { tides, watched: { request: 'GET /watched', freshFor: '1 min', mode: 'measure' } } } },
    ))

  it('give stored answers of any age offline, a typed error where there is none, and call nothing', () => {
    const store = Object.assign(memoryStore(), { close() {} })
    return scene(
      async ({ stash, open, clock, base, received }) => {
        await stash.fetch(`${base}/tides/today`)
        await stash.operation('ebbline.find', async () => 'v-201', { freshFor: '1 min' })()
        await clock.sleep(48 * 60 * minute) // in which the stash tidies up many times
        await stash.close()
        const offline = await open({ store, mode: 'offline' })
        const response = await offline.fetch(`${base}/tides/today`)
        expect([await response.json(), response.headers.get('cache-status')]).to.eql([
          { n: 1 },
          'stashen; hit; ttl=-172740; detail=offline',
        ])
        const find = offline.operation('ebbline.find', async () => expect.fail('called'), { freshFor: '1 min' })
        expect(await find()).to.equal('v-201')
        for (const path of ['/tides/other', '/notes']) {
          const error = await offline.fetch(base + path).catch((thrown: unknown) => thrown)
          expect(isStashenError(error) && error.code).to.equal('OFFLINE')
        }
        expect(received).to.have.length(1)
        expect((await offline.report()).totals.with).to.include({ stale: 2, errored: 2, upstream: 2 })
        await offline.close()
      },
      { config: { store } },
    )
  })
})
