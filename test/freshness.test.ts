import { expect } from 'chai'
import { type AnswerFacts, type KeyedRequest, memoryStore } from 'stashen'
import { json, noon, scene } from './support/upstream.js'

const hour = 3_600_000

describe('freshness', () => {
  it('lasts until the next publication of a timetable, and not a moment longer', () =>
    scene(
      async ({ stash, clock, base, received }) => {
        const ask = async () => stash.outcomeOf(await stash.fetch(`${base}/tides`))
        expect((await ask())?.freshUntil).to.eql(new Date('2026-07-01T04:00Z'))
        await clock.sleep(16 * hour - 1)
        expect((await ask())?.how).to.equal('hit')
        await clock.sleep(1)
        expect((await ask())?.reason).to.equal('expired')
        expect(received).to.have.length(2)
      },
      {
        provider: {
          endpoints: { tides: { request: 'GET /tides', freshUntil: { daily: '06:00', zone: 'Europe/Oslo' }, staleIfError: '1 hour' } },
        },
      },
    ))

  it('is renewed by a 304, which brings the stored fields up to date and may be free of charge (RFC 9111 sections 3.2 and 4.3)', () => {
    const sentConditions: unknown[] = []
    const costs: unknown[] = []
    return scene(
      async (now) => {
        const validators: Record<string, string>[] = [
          { etag: '"a"' },
          { etag: 'W/"b"' },
          { 'last-modified': 'Tue, 30 Jun 2026 06:00:00 GMT' },
        ]
        for (const [i, validator] of validators.entries()) {
          let stamp = 'old'
          now.answer = (request, response) => {
            const { 'if-none-match': tag, 'if-modified-since': since } = request.headers
            sentConditions.push(tag ?? since)
            const holds = tag === validator.etag && since === validator['last-modified'] && (tag ?? since) !== undefined
            response.writeHead(holds ? 304 : 200, { ...validator, 'x-stamp': stamp, 'content-type': holds ? 'text/wrong' : 'text/plain' })
            response.end(holds ? undefined : 'high water')
          }
          const ask = async () => {
            const response = await now.stash.fetch(`${now.base}/tides?day=${i}`, { headers: { 'x-own': '1' } })
            const { headers } = response
            if (stamp === 'new') costs.push(now.stash.outcomeOf(response)?.cost)
            return [
              response.status,
              await response.text(),
              headers.get('x-stamp'),
              headers.get('content-type'),
              headers.get('cache-status'),
            ]
          }
          await ask()
          await now.clock.sleep(2 * 60_000)
          stamp = 'new'
          expect(await ask()).to.eql([
            200,
            'high water',
            'new',
            'text/plain',
            'stashen; fwd=stale; fwd-status=304; stored; ttl=60; detail=expired',
          ])
          expect(await ask()).to.eql([200, 'high water', 'new', 'text/plain', 'stashen; hit; ttl=60; detail=fresh'])
        }
        expect(costs, 'neither a 304 nor a hit costs anything').to.eql(Array(6).fill(undefined))
        expect(sentConditions).to.eql(validators.flatMap((validator) => [undefined, Object.values(validator)[0]]))
        expect((await now.stash.report()).totals.with).to.deep.include({
          upstream: 6,
          unmodified: 3,
          unchanged: 3,
          money: [{ currency: 'EUR', amount: '0.3' }],
        })
      },
      {
        provider: {
          plan: { currency: 'EUR', perCall: '0.1', notBilled: ['unmodified'] },
          endpoints: { tides: { request: 'GET /tides', freshFor: '1 min', staleIfError: '1 hour' } },
        },
      },
    )
  })

  it('is not renewed by a 304 that speaks of another answer: the whole one is asked for, and both calls are counted', () =>
    scene(
      async (now) => {
        now.answer = (request, response) => {
          const conditional = request.headers['if-none-match'] !== undefined
          response
            .writeHead(conditional ? 304 : 200, { etag: conditional ? '"b"' : '"a"' })
            .end(conditional ? undefined : String(now.received.length))
        }
        const ask = async () => (await now.stash.fetch(`${now.base}/tides`)).text()
        expect(await ask()).to.equal('1')
        await now.clock.sleep(2 * 60_000)
        expect(await ask()).to.equal('3')
        expect((await now.stash.report()).totals.with?.upstream).to.equal(3)
      },
      { provider: { endpoints: { tides: { request: 'GET /tides', freshFor: '1 min', staleIfError: '1 hour' } } } },
    ))

  it('lasts as long as a function of the answer says; where that fails nothing is stored, and it is said once', () => {
    const freshFor = (answer: AnswerFacts) => {
      const { underWay } = answer.json() as { underWay?: boolean }
      if (underWay === undefined) throw new Error('no position')
      return underWay ? '1 min' : answer.header('x-port') === 'winter' ? '30 days' : '1 hour'
    }
    return scene(
      async (now) => {
        const lasts = async (id: string, body: object, headers = {}) => {
          now.answer = json(() => body, 200, headers)
          const outcome = now.stash.outcomeOf(await now.stash.fetch(`${now.base}/vessels/${id}`))
          return outcome?.stored ? Number(outcome.freshUntil) - noon : outcome?.stored
        }
        expect(await lasts('a', { underWay: true })).to.equal(60_000)
        expect(await lasts('b', { underWay: false })).to.equal(hour)
        expect(await lasts('c', { underWay: false }, { 'x-port': 'winter' })).to.equal(30 * 24 * hour)
        expect([await lasts('d', {}), await lasts('d', {})]).to.eql([false, false])
        expect(now.warnings).to.have.length(1)
        expect(now.warnings[0]).to.include('ebbline.vessel').and.include('no position')
      },
      { provider: { endpoints: { vessel: { request: 'GET /vessels/{id}', freshFor } } } },
    )
  })

  it('ends spread out with jitter, evenly over its share and the same for a key each time', () =>
    scene(
      async ({ open, base }) => {
        const ends: number[][] = []
        for (let time = 0; time < 2; time++) {
          const stash = await open()
          const responses = await Promise.all(
            Array.from({ length: time === 0 ? 400 : 20 }, (_, i) => stash.fetch(`${base}/tides?day=${i}`)),
          )
          ends.push(responses.map((response) => (Number(stash.outcomeOf(response)?.freshUntil) - noon) / 1000))
          await stash.close()
        }
        expect(ends[1]).to.eql(ends[0]?.slice(0, 20))
        const first = ends[0] ?? []
        expect(Math.min(...first)).to.be.within(80, 81)
        expect(Math.max(...first)).to.be.within(99, 100)
        for (const from of [80, 85, 90, 95]) {
          expect(
            first.filter((end) => end >= from && end < from + 5).length,
            `a quarter of 400 between ${from} and ${from + 5} s`,
          ).to.be.within(65, 135)
        }
      },
      { provider: { endpoints: { tides: { request: 'GET /tides', freshFor: '100 s', jitter: 0.2 } } } },
    ))

  it('of a status may be longer than that of all others', () =>
    scene(
      async ({ clock, stash, base }) => {
        const how = async () => stash.outcomeOf(await stash.fetch(`${base}/tides`))?.how
        expect(await how()).to.equal('forwarded')
        await clock.sleep(30 * 60_000)
        expect(await how()).to.equal('hit')
        await clock.sleep(31 * 60_000)
        expect(await how()).to.equal('forwarded')
      },
      { provider: { endpoints: { tides: { request: 'GET /tides', freshFor: '1 s', freshForStatus: { 200: '1 hour' } } } } },
    ))

  it('is longer with each use where it slides, up to a cap and for all processes on a store', () => {
    const store = Object.assign(memoryStore(), { close() {} })
    const slidingTides = { request: 'GET /tides', freshFor: '1 min', sliding: { upTo: '3 min' }, freshForStatus: { 404: '1 min' } }
    return scene(
      async (now) => {
        const other = await now.open()
        const wait = async (seconds: number, stash = now.stash, query = '') => {
          await now.clock.sleep(seconds * 1000)
          const response = await stash.fetch(`${now.base}/tides${query}`)
          return [stash.outcomeOf(response)?.how, response.headers.get('cache-status')?.match(/ttl=(\d+)/)?.[1]]
        }
        expect(await wait(0)).to.eql(['forwarded', '60'])
        expect(await wait(50)).to.eql(['hit', '60'])
        expect(await wait(50, other)).to.eql(['hit', '60'])
        expect(await wait(50)).to.eql(['hit', '30'])
        expect(await wait(29)).to.eql(['hit', '1'])
        expect(await wait(1), 'never past the cap').to.eql(['forwarded', '60'])
        expect(await wait(60), 'unused it ends').to.eql(['forwarded', '60'])
        now.answer = json(() => 1, 404)
        expect([await wait(0, now.stash, '?none'), await wait(50, now.stash, '?none'), await wait(10, now.stash, '?none')]).to.eql([
          ['forwarded', '60'],
          ['hit', '10'],
          ['forwarded', '60'],
        ])
        await other.close()
      },
      { provider: { endpoints: { tides: slidingTides } }, config: { store } },
    )
  })

  it('is for neither requests nor answers that the rule excepts, and for none where its function fails', () => {
    const reuse = {
      exceptRequest: ({ url }: KeyedRequest) => {
        if (url.searchParams.has('broken')) throw new Error('no such berth')
        return url.searchParams.has('live')
      },
      exceptAnswer: (answer: AnswerFacts) => (answer.json() as { final?: boolean }).final !== true,
    }
    return scene(
      async (now) => {
        const twice = async (query: string, final: boolean) => {
          now.answer = json(() => ({ final }))
          const responses = [await now.stash.fetch(`${now.base}/tides${query}`), await now.stash.fetch(`${now.base}/tides${query}`)]
          const outcomes = responses.map((response) => now.stash.outcomeOf(response))
          return [...outcomes.map((outcome) => outcome?.how), outcomes[0]?.notStored ?? outcomes[0]?.reason]
        }
        expect(await twice('?a', true)).to.eql(['forwarded', 'hit', 'absent'])
        expect(await twice('?b', false)).to.eql(['forwarded', 'forwarded', 'excepted'])
        expect(await twice('?live', true)).to.eql(['forwarded', 'forwarded', 'not-reusable'])
        expect(await twice('?broken', true)).to.eql(['passed', 'passed', 'no-key'])
        expect(now.warnings.join()).to.include('no such berth').and.include('ebbline.tides')
      },
      { provider: { endpoints: { tides: { request: 'GET /tides', freshFor: '1 min', reuse } } } },
    )
  })
})
