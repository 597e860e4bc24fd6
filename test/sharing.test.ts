import { type ChildProcess, spawn } from 'node:child_process'
import { once } from 'node:events'
import { createServer } from 'node:http'
import type { AddressInfo } from 'node:net'
import { text } from 'node:stream/consumers'
import { setTimeout as pause } from 'node:timers/promises'
import { fileURLToPath } from 'node:url'
import { expect } from 'chai'
import { openStash } from 'stashen'
import { temporaryFolder } from './support/files.js'
import { haveRedis } from './support/needs.js'
import { RedisServer } from './support/redis-server.js'
import { isLong } from './support/scale.js'
import { harbourAt, storeNamed } from './support/two-processes.js'

const asking = fileURLToPath(new URL('./support/asking.process.js', import.meta.url))

let redis: RedisServer
const file = temporaryFolder()
const kinds: [name: string, processes: number, place: (name: string) => string][] = [['two processes on one SQLite file', 2, file]]
if (haveRedis('processes on one Redis server')) {
  before(async () => {
    redis = await RedisServer.start()
  })
  after(() => redis.remove())
  const processes = isLong ? 8 : 2
  kinds.push([`${processes} processes on one Redis server`, processes, (name) => `${redis.url}?prefix=${name}`])
}

for (const [kind, processes, place] of kinds)
  describe(kind, () => {
    const many = Array.from({ length: processes }, (_, i) => i)
    let underWay = 0
    let mostUnderWay = 0
    let received: string[] = []
    let hangs = false
    const server = createServer(async (request, response) => {
      received.push(String(request.url))
      underWay++
      mostUnderWay = Math.max(mostUnderWay, underWay)
      response.on('close', () => underWay--)
      if (hangs) return
      await pause(20)
      response.end(`${received.length}`)
    })
    let base = ''
    before(async () => {
      await new Promise<void>((listening) => server.listen(0, '127.0.0.1', listening))
      base = `http://127.0.0.1:${(server.address() as AddressInfo).port}`
    })
    after(() => {
      server.closeAllConnections()
      server.close()
    })
    beforeEach(() => {
      received = []
      mostUnderWay = 0
    })

    const ask = (path: string, times: number, store: string): ChildProcess & { stdout: NodeJS.ReadableStream } =>
      spawn(process.execPath, [asking, place(store), base, path, String(times)], { stdio: ['ignore', 'pipe', 'inherit'] }) as never

    it('share every limit: no more calls leave than it allows, in all and at once, and both count them', async () => {
      const both = await Promise.all(many.map(() => text(ask('/quotes/*', 30, 'limits.db').stdout)))
      const answers = both.join('').trim().split('\n')
      expect(answers).to.have.length(30 * processes)
      expect(answers.filter((line) => line === 'forwarded absent')).to.have.length(20)
      expect(answers.filter((line) => line === 'LIMIT_REACHED')).to.have.length(30 * processes - 20)
      expect(received).to.have.length(20)
      expect(mostUnderWay).to.be.within(2, 4)
      await using stash = await openStash({ store: storeNamed(place('limits.db')) })
      const [harbour] = (await stash.status()).providers
      expect(harbour?.limits.map(({ limit, left }) => [limit, left])).to.eql([
        ['20 calls per hour', 0],
        ['4 at once', 4],
      ])
      expect((await stash.report()).totals.with).to.include({ asked: 30 * processes, upstream: 20, errored: 30 * processes - 20 })
    })

    if (isLong || kind.includes('SQLite'))
      it('never overspend a budget together, not by a cent', async () => {
        const both = await Promise.all(many.map(() => text(ask('/berths/*', 15, 'budget.db').stdout)))
        const answers = both.join('').trim().split('\n')
        expect(answers.filter((line) => line === 'forwarded absent')).to.have.length(14)
        expect(answers.filter((line) => line === 'BUDGET_SPENT')).to.have.length(15 * processes - 14)
        expect(received).to.have.length(14)
        await using stash = await openStash({ store: storeNamed(place('budget.db')) })
        expect((await stash.status()).providers[0]?.budgets[0]).to.include({ spent: '1.4', level: 'stop' })
        expect((await stash.report()).totals.with?.money).to.eql([{ currency: 'EUR', amount: '1.4' }])
      })

    if (isLong)
      it('go on when one is killed in mid-refresh: the other refreshes within the lease, and the counts hold', async () => {
        const store = storeNamed(place('killed.db'))
        await using stash = await openStash({ store, providers: { harbour: harbourAt(base) } })
        const asked = async () => {
          const response = await stash.fetch(`${base}/positions/marram`)
          return { text: await response.text(), how: stash.outcomeOf(response)?.how }
        }
        expect(await asked()).to.eql({ text: '1', how: 'forwarded' })
        await pause(400)
        hangs = true
        const other = ask('/positions/marram', 1, 'killed.db')
        const [line] = (await once(other.stdout, 'data')) as [Buffer]
        expect(String(line)).to.include('stale refreshing')
        while (received.length < 2) await pause(5)
        other.kill('SIGKILL')
        await once(other, 'exit')
        const killedAt = performance.now()
        hangs = false
        const held = (await stash.status()).providers[0]?.limits
        expect(held?.[1]?.left, 'the call of the killed process still counts').to.equal(3)
        let got = await asked()
        expect(got, 'its refresh is not made again while it may still be under way').to.eql({ text: '1', how: 'stale' })
        expect(received).to.have.length(2)
        while (got.text === '1') {
          await pause(50)
          got = await asked()
          expect(performance.now() - killedAt, 'within the five seconds of a claim').to.be.below(8_000)
        }
        expect(performance.now() - killedAt).to.be.above(1_500)
        expect(received).to.have.length(3)
        const left = async () => (await stash.status()).providers[0]?.limits.map(({ left }) => left)
        while ((await left())?.[1] === 3) {
          await pause(20)
          expect(performance.now() - killedAt, 'the call of the killed process counts no longer than its lease and a step').to.be.below(
            5_500,
          )
        }
        expect(await left()).to.eql([17, 4])
      })
  })
