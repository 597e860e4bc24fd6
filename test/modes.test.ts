import { expect } from 'chai'
import { isStashenError, memoryStore, type ProviderOptions } from 'stashen'
import { renderText } from 'stashen/render'
import { json, scene, tides } from './support/upstream.js'

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
