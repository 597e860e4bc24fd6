import { expect } from 'chai'
import type { AnswerFacts } from 'stashen'
import { json, noon, scene } from './support/upstream.js'

const hour = 3_600_000

describe('freshness', () => {
  it('lasts until the next publication of a timetable, and not a moment longer', () =>
    scene(
      async ({ stash, clock, base, received }) => {
        const ask = async () => stash.outcomeOf(await stash.fetch(`${base}/tides`))
        expect((await ask())?.freshUntil).to.equal(Date.parse('2026-07-01T04:00Z'))
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
          return outcome?.stored ? (outcome.freshUntil ?? 0) - noon : outcome?.stored
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
          const responses = await Promise.all(Array.from({ length: 400 }, (_, i) => stash.fetch(`${base}/tides?day=${i}`)))
          ends.push(responses.map((response) => ((stash.outcomeOf(response)?.freshUntil ?? 0) - noon) / 1000))
          await stash.close()
        }
        expect(ends[0]).to.eql(ends[1])
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
})
