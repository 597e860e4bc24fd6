import { expect } from 'chai'
import { json, noon, scene, tides } from './support/upstream.js'

const minute = 60_000

describe('stash.explain', () => {
  const provider = {
    secretQuery: ['key'],
    endpoints: {
      tides: { ...tides, keyedBy: { query: { except: ['utm'] } } },
      spring: { request: 'GET /tides/{day}?kind=spring', freshFor: '1 day' },
      notes: { request: 'PUT /tides/{day}' },
      broken: { request: 'POST /broken', safe: true, freshFor: '1 min', keyedBy: () => () => 1 },
    },
  } as const

  it('says which endpoint, which key, what is stored, what would be done and why, as a call then does, and calls nothing', () =>
    scene(
      async (now) => {
        const { stash, clock, base, received } = now
        const url = `${base}/tides/today?utm=x&key=hush&b=2&a=1`
        const first = await stash.explain(url)
        expect(first).to.deep.include({
          provider: 'ebbline',
          endpoint: 'tides',
          mode: 'reuse',
          stored: null,
          would: 'call',
          reason: 'absent',
        })
        expect(first.leftOut).to.eql(['key', 'utm'])
        expect(first.key).to.match(/^GET http:\/\/127\.0\.0\.1:\d+\/tides\/today\?a=1&b=2 ebbline\.tides caller:[0-9a-f]{64}$/)
        expect(first.nearMisses).to.eql([
          { provider: 'ebbline', endpoint: 'spring', difference: 'query has no single kind=spring' },
          { provider: 'ebbline', endpoint: 'notes', difference: 'method is GET, not PUT' },
        ])
        await stash.fetch(url)
        await clock.sleep(30_000)
        const fresh = await stash.explain(url)
        expect(fresh).to.deep.include({
          would: 'serve',
          reason: 'fresh',
          because: 'a stored answer is still fresh',
          olderAnswerOnFailure: true,
        })
        expect(fresh.stored).to.eql({
          key: first.key,
          storedAt: new Date(noon),
          ageMs: 30_000,
          freshUntil: new Date(noon + minute),
          freshBy: 'rule',
          refreshableUntil: new Date(noon + minute),
          mustRevalidate: false,
          usableUntil: new Date(noon + 61 * minute),
          bytes: 7,
        })
        await clock.sleep(minute)
        now.answer = json(() => 1, 503)
        expect(await stash.explain(url)).to.deep.include({ would: 'call', reason: 'expired', olderAnswerOnFailure: true })
        await stash.fetch(url)
        expect(await stash.explain(url)).to.deep.include({ would: 'serve', reason: 'held-off' })
        expect(received).to.have.length(2)
        expect((await stash.report()).totals.with?.asked).to.equal(2)
        expect(JSON.stringify(first)).to.not.include('hush')
      },
      { provider },
    ))

  it('says why no rule holds', () =>
    scene(
      async ({ stash, base, open }) => {
        const reasonOf = async (path: string, init?: RequestInit) => {
          const { endpoint, would, reason, key } = await stash.explain(base + path, init)
          return [endpoint, would, reason, key]
        }
        expect(await reasonOf('/vessels')).to.eql([null, 'pass', 'no-endpoint', null])
        expect(await reasonOf('/tides/today', { method: 'PUT' })).to.eql(['notes', 'pass', 'not-reusable', null])
        expect(await reasonOf('/broken', { method: 'POST', body: 'x' })).to.eql(['broken', 'pass', 'no-key', null])
        expect((await reasonOf('/tides/today', { headers: { range: 'bytes=0-1' } })).slice(0, 3)).to.eql(['tides', 'call', 'range-asked'])
        const near = (await stash.explain(`${base}/tide/today`)).nearMisses
        expect(near.map(({ endpoint, difference }) => [endpoint, difference])).to.eql([['tides', 'segment 1 is "tide", not "tides"']])
        const [byCase] = (await stash.explain(`${base}/Tides/today`)).nearMisses
        expect(byCase?.difference).to.equal('segment 1 is "Tides", not "tides": only the case differs, see "ignoreCase"')
        const other = await open({
          providers: {
            ebbline: { baseUrl: `${base}/V2`, ignoreCase: true, endpoints: { tides: { request: 'GET /Tides/{day}', freshFor: '1 min' } } },
          },
        })
        for (const path of ['/v2/tides/Today', '/V2/TIDES/x', '/v2/tides/%C3%84'])
          expect(other.covers('GET', `${base}${path}`), path).to.equal('ebbline.tides')
        expect(other.covers('GET', `${base}/v2/tide/x`)).to.equal(undefined)
        expect((await other.explain(`${base}/v2/TIDES/Today`)).key).to.include('/v2/TIDES/Today')
        const { port } = new URL(base)
        for (const [url, expected] of [
          [`https://127.0.0.1:${port}/tides/today`, 'scheme is https, not http'],
          [`http://127.0.0.1/tides/today`, `port is the usual one, not ${port}`],
          [`http://9.8.0.1:${port}/tides/today`, 'host is 9.8.0.1, not 127.0.0.1'],
          [`https://9.8.0.1:${port}/tides/today`, undefined],
          [`http://9.8.7.6:${port}/tides/today`, undefined],
        ] as const) {
          const { nearMisses } = await stash.explain(url)
          expect(nearMisses.find(({ endpoint }) => endpoint === 'tides')?.difference, url).to.equal(expected)
        }
        const offline = await open({ mode: 'offline' })
        expect(await offline.explain(`${base}/vessels`)).to.deep.include({ would: 'refuse', reason: 'offline' })
        expect(await offline.explain(`${base}/tides/today`)).to.deep.include({ would: 'refuse', reason: 'offline' })
        await offline.close()
      },
      { provider },
    ))
})
