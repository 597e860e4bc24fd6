import { spawn } from 'node:child_process'
import { createHash } from 'node:crypto'
import { once } from 'node:events'
import { createServer } from 'node:http'
import type { AddressInfo } from 'node:net'
import { monitorEventLoopDelay } from 'node:perf_hooks'
import { setTimeout as pause } from 'node:timers/promises'
import { fileURLToPath } from 'node:url'
import { expect } from 'chai'
import { openStash } from 'stashen'
import { temporaryFolder } from './support/files.js'
import { haveRedis } from './support/needs.js'
import { RedisServer } from './support/redis-server.js'
import { isLong, scaled } from './support/scale.js'
import { storeNamed } from './support/two-processes.js'

const killed = fileURLToPath(new URL('./support/killed.process.js', import.meta.url))

/** How many processes are killed on each kind of store. */
const kills = scaled(2)

const file = temporaryFolder()
let redis: RedisServer
const kinds: [name: string, place: () => string][] = [['an SQLite file', () => file('kills.db')]]
if (haveRedis('processes that are killed')) {
  before(async () => {
    redis = await RedisServer.start()
  })
  after(() => redis.remove())
  kinds.push(['a Redis server', () => `${redis.url}?prefix=kills`])
}

for (const [kind, place] of kinds)
  it(`two processes at a time on ${kind}, killed again and again, leave no torn entry, lose a second of counts at the most, and hold every bound`, async () => {
    const arrivals: number[] = []
    const counts = { tides: 0, quotes: 0, berths: 0 }
    const server = createServer((request, response) => {
      const [, what = ''] = String(request.url).split('/')
      counts[what as 'tides']++
      arrivals.push(performance.now())
      const text = `${request.url} `.repeat(1 + Math.floor(Math.random() * 2_000))
      response.setHeader('content-type', 'application/json')
      setTimeout(() => response.end(JSON.stringify({ text, sum: sumOf(text) })), Math.random() * 20)
    }).listen(0, '127.0.0.1')
    await once(server, 'listening')
    const base = `http://127.0.0.1:${(server.address() as AddressInfo).port}`
    const delays = monitorEventLoopDelay({ resolution: 10 })
    delays.enable()
    let mayBeLost = 0
    let entries = 0
    let lookedAt = 0
    for (let round = 0; round < kills / 2; round++) {
      const pair = [1, 2].map(() => spawn(process.execPath, [killed, place(), base], { stdio: ['pipe', 'inherit', 'inherit'] }))
      const [before, { ...earlier }] = [arrivals.length, counts]
      const long = isLong && round % 2 === 0
      const hasBegun = () => arrivals.length > before && (isLong || (counts.quotes > earlier.quotes && counts.berths > earlier.berths))
      while (round % 4 !== 3 && !hasBegun()) await pause(5) // every fourth is killed while it opens
      await pause(long ? 1_500 + Math.random() * 1_500 : Math.random() * 100)
      for (const child of pair) {
        const ended = once(child, 'exit')
        child.kill('SIGKILL')
        await ended
        await pause(Math.random() * 30)
      }
      const at = performance.now()
      const heldUpMs = delays.max / 1e6 // by others who keep the machine busy: then its timers are late too
      delays.reset()
      mayBeLost += arrivals.slice(before).filter((one) => one > at - 1_300 - 5 * heldUpMs).length
      const store = storeNamed(place())
      await store.open({ now: Date.now(), warn: (message) => expect.fail(message) })
      const [since, began] = [round % 25 === 24 ? 0 : lookedAt, Date.now()] // all there is now and then, else what is new
      for (let after: string | undefined; ; ) {
        const page = await store.entries.list({ all: true }, { after })
        for (const { key, storedAt } of page.entries) {
          if (storedAt < since) continue
          const entry = await store.entries.get(key)
          if (!entry) continue // run out, or replaced by a later
          const { text, sum } = JSON.parse(new TextDecoder().decode(entry.body)) as { text: string; sum: string }
          expect(sumOf(text), key).to.equal(sum)
          entries++
        }
        if (page.next === undefined) break
        after = page.next
      }
      await store.close()
      lookedAt = began - 5_000
      if (kills > 100 && round % 50 === 49) console.log(`${kind}: ${2 * (round + 1)} killed, ${entries} entries read`)
      expect(counts.quotes, 'a limit of 40 an hour').to.be.at.most(40)
      expect(counts.berths, 'EUR 2.05 at EUR 0.10').to.be.at.most(20)
    }
    await using stash = await openStash({ store: storeNamed(place()) })
    const upstream = (await stash.report()).totals.with?.upstream ?? 0
    delays.disable()
    server.closeAllConnections()
    server.close()
    if (kills >= 20) expect(mayBeLost, 'some were made more than a second before').to.be.below(arrivals.length)
    expect(upstream).to.be.within(arrivals.length - mayBeLost, arrivals.length)
    if (isLong) expect(entries).to.be.above(kills / 2)
    expect(counts.quotes, 'calls that a killed process had under way count').to.be.within(Math.min(20, kills - 1), 40)
    if (kills > 100)
      console.log(
        `${kind}: ${kills} killed, ${arrivals.length} calls, ${upstream} counted, ${mayBeLost} in last seconds, ${entries} entries read, ${JSON.stringify(counts)}`,
      )
  }).timeout(3_600_000)

function sumOf(text: string): string {
  return createHash('sha1').update(text).digest('hex')
}
