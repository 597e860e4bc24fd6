import { type ChildProcess, spawn } from 'node:child_process'
import { randomUUID } from 'node:crypto'
import { once } from 'node:events'
import { createServer } from 'node:http'
import type { AddressInfo } from 'node:net'
import { setTimeout as pause } from 'node:timers/promises'
import { fileURLToPath } from 'node:url'
import { expect } from 'chai'
import { openStash, type Stash } from 'stashen'
import { FastClock } from 'stashen/harbour'
import { redisStore } from 'stashen/redis'
import { timelessStore } from '../examples/harbour/open-store.js'
import { hammered } from './support/hammered.js'
import { haveRedis } from './support/needs.js'
import { RedisServer } from './support/redis-server.js'
import { isLong } from './support/scale.js'
import { realTime, trueTime } from './support/true-time.js'

const hammering = fileURLToPath(new URL('./support/hammering.process.js', import.meta.url))

/** How long processes hammer. */
const minutes = isLong ? 3 : 1
const [processes, minute] = [8, 60_000]

/** How many times as fast as the real one the time goes. */
const speed = 20

/** The most that any window of a length holds. */
function mostIn(moments: readonly number[], length: number): number {
  return moments.reduce((most, at, i) => {
    let last = i
    while (last + 1 < moments.length && (moments[last + 1] as number) - at < length) last++
    return Math.max(most, last - i + 1)
  }, 0)
}

interface Hammered {
  /** When calls arrived at the provider, in true time since the first. */
  readonly tides: readonly number[]
  readonly quotes: number
  readonly ended: readonly { readonly refused: Readonly<Record<string, number>>; readonly budgets: readonly string[] }[]
}

if (haveRedis('a limit that many hammer'))
  describe('a limit of 100 calls a minute over a Redis server', () => {
    let server: RedisServer
    before(async () => {
      server = await RedisServer.start()
    })
    after(() => server.remove())

    it('holds in every window, is used up in each, and a budget is spent to the cent, whichever of eight stashes calls', async () => {
      const clock = new FastClock(Date.parse('2026-06-30T12:00:00Z'))
      const [arrivals, quotes]: [number[], number[]] = [[], []]
      const fetch: typeof globalThis.fetch = async (input) => {
        ;(String(input).includes('quotes') ? quotes : arrivals).push(clock.now())
        return new Response('high')
      }
      const prefix = randomUUID()
      const stashes: Stash[] = []
      for (let i = 0; i < processes; i++) {
        const store = timelessStore(redisStore({ url: server.url, prefix }), clock)
        stashes.push(
          await openStash({
            ...{ store, clock, fetch, storeTimeout: '2 minutes', warn: (message) => expect.fail(message) },
            providers: hammered('https://harbour.example'),
          }),
        )
      }
      const end = clock.now() + minutes * minute
      let number = 0
      const hammer = async (stash: Stash, provider: string, pauseMs: number) => {
        while (clock.now() < end) {
          await stash.fetch(`https://harbour.example/${provider}/${number++}`).catch(() => clock.sleep(1_000))
          await clock.sleep(pauseMs)
        }
      }
      await clock.run(
        Promise.all(stashes.flatMap((stash) => [hammer(stash, 'tides', 50), hammer(stash, 'tides', 80), hammer(stash, 'quotes', 1_000)])),
      )
      const statuses = await clock.run(Promise.all(stashes.map((stash) => stash.status())))
      await clock.run(Promise.all(stashes.map((stash) => stash.close())))
      expect(mostIn(arrivals, minute)).to.equal(100)
      expect(arrivals.length, 'used up in each minute').to.be.at.least(minutes * 98)
      expect(quotes, 'EUR 12.34 at EUR 0.07').to.have.length(176)
      for (const { providers } of statuses) expect(providers.flatMap(({ budgets }) => budgets.map(({ spent }) => spent))).to.eql(['12.32'])
    })
  })

if (isLong && haveRedis('a limit that eight processes hammer'))
  describe('a limit of 100 calls a minute that eight processes hammer over a Redis server', () => {
    let server: RedisServer
    before(async () => {
      server = await RedisServer.start()
    })
    after(() => server.remove())

    /** `aheadMs`: how far the clock of each process is ahead; `during`: what happens meanwhile, given when it is so many minutes after the begin. */
    async function hammer(
      aheadMs: (i: number) => number,
      during: (at: (minutes: number) => Promise<void>) => Promise<void> = async () => {},
    ): Promise<Hammered> {
      const began = realTime()
      const trueNow = () => trueTime(began, speed)
      const arrivals: number[] = []
      let quotes = 0
      const provider = createServer((request, response) => {
        if (request.url?.startsWith('/quotes')) quotes++
        else arrivals.push(trueNow())
        response.end('high')
      }).listen(0, '127.0.0.1')
      await once(provider, 'listening')
      const base = `http://127.0.0.1:${(provider.address() as AddressInfo).port}`
      const place = `${server.url}?prefix=${randomUUID()}`
      const children: ChildProcess[] = []
      const running = Array.from({ length: processes }, async (_, i) => {
        const args = [place, base, speed, began, aheadMs(i)].map(String)
        const child = spawn(process.execPath, [hammering, ...args], { stdio: ['pipe', 'pipe', 'pipe'] })
        children.push(child)
        const texts = { stdout: '', stderr: '' }
        for (const name of ['stdout', 'stderr'] as const) child[name].on('data', (text) => (texts[name] += text))
        const [code] = await once(child, 'close')
        expect(code, texts.stderr).to.equal(0)
        return JSON.parse(texts.stdout) as Hammered['ended'][number]
      })
      const at = async (wanted: number) => {
        while (arrivals.length === 0) await pause(5)
        await pause(((arrivals[0] as number) + wanted * minute - trueNow()) / speed)
      }
      await Promise.race([Promise.all([at(minutes + 0.05), during(at)]), ...running.map((one) => one.then(() => {}))])
      for (const child of children) child.stdin?.end()
      const ended = await Promise.all(running)
      provider.closeAllConnections()
      provider.close()
      const [first = 0] = arrivals
      return { tides: arrivals.map((one) => one - first), quotes, ended }
    }

    const clocks: [what: string, aheadMs: (i: number) => number][] = [
      ['with one clock', () => 0],
      ['with clocks 30 s apart', (i) => (i % 3) * 15_000],
    ]
    for (const [what, aheadMs] of clocks)
      it(`holds in every window, is used up in each, and a budget is spent to the cent, ${what}`, async () => {
        const hammered = await hammer(aheadMs)
        const { tides, quotes, ended } = hammered
        expect(mostIn(tides, minute)).to.be.at.most(100)
        expect(tides.length, 'other tests run beside').to.be.above(minutes * 50)
        expect(quotes, 'EUR 12.34 at EUR 0.07').to.be.within(1, 176)
        if (quotes === 176) expect(ended.map(({ budgets }) => budgets)).to.eql(ended.map(() => ['12.32']))
      }).timeout(120_000)

    it('goes on while the server is gone, each process by what it knows, and holds again once it is back', async () => {
      const hammered = await hammer(
        () => 0,
        async (at) => {
          await at(1.3)
          await server.stop()
          await pause(200)
          await server.start()
        },
      )
      const { tides, quotes } = hammered
      const later = tides.filter((at) => at > 2.3 * minute)
      expect(mostIn(later, minute), 'after a minute').to.be.at.most(100)
      expect(mostIn(tides, minute), 'each process may let out what it knows to be free').to.be.at.most(processes * 100)
      expect(later.length, 'calls go on').to.be.above(0)
      expect(quotes, 'one call more of each at the most').to.be.at.most(176 + processes)
    }).timeout(120_000)
  })
