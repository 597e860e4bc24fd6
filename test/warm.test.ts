import { expect } from 'chai'
import { memoryStore, type Stash, type StashEvents, type WarmProgress } from 'stashen'
import { fileJournal } from 'stashen/journal'
import { renderText } from 'stashen/render'
import { sqliteStore } from 'stashen/sqlite'
import { temporaryFolder } from './support/files.js'
import { scene, tides } from './support/upstream.js'

const fresh = { ...tides, freshFor: '1 hour' }
const days = (base: string, from: number, to: number) => Array.from({ length: to - from }, (_, i) => `${base}/tides/${from + i}`)
const how = async (stash: Stash, url: string) => {
  const response = await stash.fetch(url)
  await response.text()
  return stash.outcomeOf(response)?.how
}

describe('warming', () => {
  const file = temporaryFolder()

  it('brings what is not stored or not fresh, in the background; it is asked by nobody, and saves nothing', () =>
    scene(
      async ({ stash, base, received, clock }) => {
        const events: StashEvents['upstream'][] = []
        stash.on('upstream', (event) => void events.push(event))
        await how(stash, `${base}/tides/1`)
        const progress: WarmProgress[] = []
        const summary = await stash.warm(
          [`${base}/tides/1`, new URL(`${base}/tides/2`), `${base}/tides/3`, { url: `${base}/tides/4`, method: 'GET' }, `${base}/no/1`],
          { onProgress: (one) => void progress.push(one), atOnce: 2 },
        )
        expect(summary).to.deep.include({ asked: 5, stored: 3, fresh: 1, notStored: { 'no-endpoint': 1 }, failed: {}, isStopped: false })
        expect(progress.map(({ done, of }) => [done, of])).to.eql([1, 2, 3, 4, 5].map((done) => [done, 5]))
        expect(progress.at(-1)?.leftMs).to.equal(0)
        expect(received).to.have.members(['GET /tides/1', 'GET /tides/2', 'GET /tides/3', 'GET /tides/4'])
        expect(events.slice(1).map(({ inBackground, label }) => [inBackground, label])).to.eql(Array(3).fill([true, 'warm']))
        const { totals } = await stash.report()
        expect(totals.with).to.include({ asked: 1, upstream: 4, firstCalls: 1 })
        expect(totals.with?.firstWaitMs, 'of the one that came before').to.equal(totals.with?.latencyMs?.median)
        expect(totals.saved).to.include({ calls: 0 })
        for (const url of days(base, 1, 5)) expect(await how(stash, url)).to.equal('hit')
        await clock.sleep(3_600_001)
        expect(await stash.warm(new Set(days(base, 1, 5)))).to.deep.include({ stored: 4, fresh: 0 })
        const none = async function* () {}
        expect(await stash.warm(none())).to.deep.include({ asked: 0, stored: 0, fresh: 0, notStored: {}, failed: {} })
        expect((await stash.report()).totals.saved?.calls, 'by calls that somebody made').to.equal(4)
        await how(stash, `${base}/tides/9`)
        expect((await stash.report()).totals.with?.firstCalls).to.equal(2)
        expect(renderText(await stash.report())).to.match(/callers who waited because nothing was stored yet: 2, \d/)
      },
      { provider: { endpoints: { tides: fresh } } },
    ))

  it('waits for its turn at limits and leaves others their share; hold-offs are waited for, what fails is counted by why', () =>
    scene(
      async ({ stash, base, received, clock }) => {
        const left: number[] = []
        stash.on('upstream', ({ beganAt }) => void left.push(beganAt.getTime()))
        const warming = stash.warm(days(base, 0, 40), { atOnce: 10 })
        const refused: unknown[] = []
        for (let i = 0; i < 20; i++) {
          await clock.sleep(10_000)
          await stash.fetch(`${base}/tides/of-somebody-${i}`).catch((error) => refused.push(error))
        }
        expect(await warming).to.deep.include({ asked: 40, stored: 40, failed: {} })
        expect(refused).to.eql([])
        for (const from of left) expect(left.filter((at) => at >= from && at < from + 60_000).length).to.be.at.most(10)
        expect(received).to.have.length(60)
      },
      { provider: { endpoints: { tides: fresh }, limits: [{ calls: 10, per: 'minute', reserved: 0.7 }] } },
    ).then(() =>
      scene(
        async (here) => {
          const { stash, base, received } = here
          let failures = 2
          here.answer = (request, response) => {
            const fails = request.url === '/tides/2' || (request.url === '/tides/1' && failures-- > 0)
            response.writeHead(fails ? 503 : 200).end('{}')
          }
          const { failed, ...summary } = await stash.warm(days(base, 0, 4), { atOnce: 1 })
          expect(summary).to.deep.include({ asked: 4, stored: 2, fresh: 0 })
          expect(failed).to.eql({ 'answered with status 503': 2 })
          expect(received).to.eql(['GET /tides/0', 'GET /tides/1', 'GET /tides/2', 'GET /tides/3'])
        },
        { provider: { endpoints: { tides: { ...fresh, holdOff: '5 s', retries: 0 } } } },
      ),
    ))

  it('renews what is fresh while that is given, and goes on where it was stopped', () =>
    scene(
      async (here) => {
        const { stash, base, clock, received } = here
        const urls = days(base, 0, 6)
        await stash.warm(urls)
        await clock.sleep(600_000)
        received.length = 0
        const controller = new AbortController()
        const stopped = await stash.warm(urls, {
          ...{ renew: '5 min', atOnce: 1, signal: controller.signal },
          onProgress({ done }) {
            if (done === 2) controller.abort()
            throw new Error('who looks on fails')
          },
        })
        expect(stopped).to.deep.include({ asked: 2, stored: 2, isStopped: true })
        for (const url of urls) expect(await how(stash, url)).to.equal('hit')
        expect(await stash.warm(urls, { renew: '5 min' }), 'the rest').to.deep.include({ asked: 6, stored: 4, fresh: 2, isStopped: false })
        expect(new Set(received).size).to.equal(6)
        expect(received).to.have.length(6)
        let before: string | undefined
        here.answer = (_request, response) => {
          void how(stash, `${base}/tides/0`).then((one) => {
            before = one
            response.end('{"n":"new"}')
          })
        }
        expect(await stash.warm([`${base}/tides/0`], { renew: true })).to.deep.include({ stored: 1 })
        expect(before, 'meanwhile').to.equal('hit')
        expect(await (await stash.fetch(`${base}/tides/0`)).json()).to.eql({ n: 'new' })
        expect(await stash.warm(urls, { signal: AbortSignal.abort() })).to.deep.include({ asked: 0, isStopped: true })
      },
      { provider: { endpoints: { tides: fresh } } },
    ))

  it('of several processes that share a store makes one call of each, and ends when its stash is closed', () =>
    scene(
      async (here) => {
        const { base, received, open, clock } = here
        const path = file('shared.db')
        const stashes = [await open({ store: sqliteStore(path) }), await open({ store: sqliteStore(path) })]
        const summaries = await Promise.all(stashes.map((stash) => stash.warm(days(base, 0, 20))))
        expect(received).to.have.length(20)
        expect(summaries.reduce((sum, { stored }) => sum + stored, 0)).to.equal(20)
        expect(summaries.every(({ stored, fresh: already }) => stored + already === 20)).to.equal(true)
        const [first, second] = stashes as [Stash, Stash]
        const endless = async function* () {
          for (let i = 100; ; i++) yield `${base}/tides/${i}`
        }
        const warming = second.warm(endless())
        await clock.sleep(1_000)
        await Promise.all([first.close(), second.close()])
        expect((await warming).isStopped).to.equal(true)
      },
      { provider: { endpoints: { tides: fresh }, limits: [{ calls: 200, per: 'hour' }] } },
    ))

  it('fetches values of operations, and the URLs that a journal says were used most', () =>
    scene(
      async ({ base, open, clock, received }) => {
        const path = file('calls.jsonl')
        const stash = await open({ journal: fileJournal(path) })
        let found = 0
        const vessel = stash.operation('skerrylight.vessel', async (id: string, of?: { day: number }) => ({ id, of, found: ++found }), {
          freshFor: '1 day',
        })
        expect(await vessel.warm([['v-201'], ['v-201'], ['v-202', { day: 1 }]])).to.deep.include({ asked: 3, stored: 2, fresh: 1 })
        expect(await vessel('v-202', { day: 1 })).to.include({ found: 2 })
        expect(found).to.equal(2)
        for (const [day, times] of [
          [1, 2],
          [2, 4],
          [3, 1],
        ] as const)
          for (let i = 0; i < times; i++) await how(stash, `${base}/tides/${day}?api_key=sk-71c20f`)
        await clock.sleep(86_400_000)
        for (const day of [4, 4, 4]) await how(stash, `${base}/tides/${day}`)
        await stash.close()
        const later = await open({ journal: fileJournal(path), store: memoryStore() })
        expect(await later.mostUsed()).to.eql([2, 4, 1, 3].map((day) => `${base}/tides/${day}`))
        expect(await later.mostUsed({ count: 1, since: '2 hours ago' })).to.eql([`${base}/tides/4`])
        received.length = 0
        const headers = { authorization: 'Bearer sk-0b71' }
        expect(await later.warm(await later.mostUsed({ count: 2 }), { headers })).to.deep.include({ stored: 2 })
        const own = await later.fetch(`${base}/tides/2`, { headers })
        expect([later.outcomeOf(own)?.how, await how(later, `${base}/tides/2`)], 'for who it was fetched').to.eql(['hit', 'forwarded'])
        await later.close()
      },
      { provider: { endpoints: { tides: fresh } } },
    ))

  it('goes on by a timetable or after each duration, with a list made anew, until it is stopped; a time that fails is told once', () =>
    scene(
      async ({ stash, base, received, clock, warnings }) => {
        const done: number[] = []
        let turn = 0
        const lists = () => {
          turn++
          if (turn === 2 || turn === 3) throw new Error('no list today')
          return [`${base}/tides/${turn}`, `${base}/tides/1`]
        }
        const at = () => new Date(clock.now()).toISOString().slice(5, 16)
        const times: string[] = []
        const stop = stash.keepWarm({ daily: '05:30', zone: 'UTC' }, lists, {
          renew: true,
          onDone({ stored }) {
            done.push(stored)
            times.push(at())
          },
        })
        const begin = at()
        await clock.sleep(4.2 * 86_400_000)
        expect(done).to.eql([1, 2, 2])
        expect(times[0]).to.equal(begin)
        expect(times.slice(1).map((time) => time.slice(6))).to.eql(['05:30', '05:30'])
        expect(turn).to.equal(5)
        expect(warnings).to.eql(['keeping warm fails, it is tried again the next time: no list today'])
        stop()
        const before = received.length
        await clock.sleep(3 * 86_400_000)
        expect(received.length).to.equal(before)
        const leaving = new AbortController()
        stash.keepWarm('10 minutes', [`${base}/tides/7`], { renew: true, signal: leaving.signal })
        await clock.sleep(35 * 60_000)
        expect(received.slice(before)).to.eql(Array(4).fill('GET /tides/7'))
        leaving.abort()
        await clock.sleep(86_400_000)
        expect(received.length).to.equal(before + 4)
        const bad: [when: unknown, requests: unknown, message: string, options?: object][] = [
          ['soon', [], 'when to warm is "soon": give a duration'],
          [{ daily: '5:30', zone: 'UTC' }, [], 'daily'],
          [{ daily: '05:30', zone: 'Europe/Kelpmouth' }, [], 'zone'],
          ['1 hour', [`${base}/tides/1`].values(), 'give a list that can be gone through again, or a function'],
          ['1 hour', 7, 'what to keep warm is 7'],
          ['1 hour', [], '"atOnce" of warm is 0', { atOnce: 0 }],
        ]
        for (const [when, requests, message, options] of bad)
          expect(() => stash.keepWarm(when as never, requests as never, options), message).to.throw(message)
        stash.keepWarm('1 hour', [`${base}/tides/8`]) // ends with the stash
      },
      { provider: { endpoints: { tides: fresh } } },
    ))

  it('that cannot be meant is said, and nothing is called', () =>
    scene(async ({ stash, base, received, open }) => {
      const wrong: [requests: unknown, options: object, says: string][] = [
        [undefined, {}, 'give a list of requests'],
        [[7], {}, 'a request to warm is 7'],
        [[{ uri: base }], {}, 'an object with "url"'],
        [[], { renew: 'soon' }, '"renew" of warm is "soon"'],
        [[], { atOnce: 0 }, '"atOnce" of warm is 0'],
        [[], { often: 1 }, 'warm has no option "often"'],
        [[], { onProgress: 5 }, '"onProgress" of warm is 5: give a function'],
        [[], { signal: {} }, '"signal" of warm is {}: give an AbortSignal'],
      ]
      for (const [requests, options, says] of wrong) {
        const error = await stash.warm(requests as never, options).catch((thrown: Error) => thrown)
        expect(error, says).to.include({ code: 'USAGE' })
        expect((error as Error).message).to.include(says)
      }
      expect(await stash.warm(['not a URL'])).to.deep.include({ asked: 1, stored: 0 })
      for (const options of [{ count: 0 }, { since: 'soon' }]) {
        const journaled = await open({ journal: fileJournal(file('empty.jsonl')) })
        expect(await journaled.mostUsed(options).catch((error: Error) => error)).to.include({ code: 'USAGE' })
        await journaled.close()
      }
      expect(((await stash.mostUsed().catch((error: Error) => error)) as Error).message).to.include('stands in a journal')
      const measuring = await open({ mode: 'measure' })
      expect(await measuring.warm([`${base}/tides/1`])).to.deep.include({ notStored: { 'not-reusable': 1 } })
      await measuring.close()
      expect(received).to.eql([])
    }))
})
