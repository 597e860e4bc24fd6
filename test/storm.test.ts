import { setFlagsFromString } from 'node:v8'
import { runInNewContext } from 'node:vm'
import { expect } from 'chai'
import { isStashenError, openStash, type ProviderOptions, type Report } from 'stashen'
import { FastClock } from 'stashen/harbour'
import { scaled } from './support/scale.js'
import { badProvider, flappingStore, type HeldLimit, randomOf } from './support/storm.js'

const callers = 200
const callsInAll = scaled(1_000, 2_000)
const withinMs = 20_000

setFlagsFromString('--expose-gc')
const collect = runInNewContext('gc') as () => void

function heapMb(): number {
  collect()
  return process.memoryUsage().heapUsed / 2 ** 20
}

describe('a storm', () => {
  it('of thousands of calls with faults, limits and a flapping store: each is answered or fails in time, and no limit is passed', async () => {
    const clock = new FastClock(Date.parse('2026-06-30T12:00:00Z'))
    const limits: HeldLimit[] = [
      { covers: () => true, calls: 300, perMs: 10_000 },
      { covers: () => true, calls: 40, perMs: 'at once' },
      { covers: (path) => path.startsWith('/e7/'), calls: 10, perMs: 5_000 },
    ]
    const provider = badProvider(clock, randomOf(1), limits)
    const endpoints = Object.fromEntries(
      Array.from({ length: 50 }, (_, i): [string, NonNullable<Exclude<ProviderOptions['endpoints'], readonly unknown[]>>[string]] => [
        `e${i}`,
        {
          request: `GET /e${i}/{id}`,
          ...{ freshFor: '3 s', staleIfError: i % 3 === 0 ? '2 s' : '20 s', within: `${withinMs} ms`, retries: i % 5 === 0 ? 2 : 0 },
          ...(i % 4 === 0 && { staleWhileRevalidate: '5 s', refreshAhead: '1 s' }),
          ...(i % 7 === 0 && { fallback: { json: { path: 'default' } } }),
          ...(i === 7 && { limits: [{ calls: 10, per: '5 s' }] }),
        },
      ]),
    )
    const harbour: ProviderOptions = {
      baseUrl: 'http://harbour.example',
      ...{ timeout: { firstByte: '2 s', total: '4 s' }, limits: [{ calls: 300, per: '10 s' }, { atOnce: 40 }], queue: 100, endpoints },
    }
    const unhandled: unknown[] = []
    const noteUnhandled = (error: unknown) => void unhandled.push(error)
    process.on('unhandledRejection', noteUnhandled)
    let troubles = 0
    const stash = await openStash({
      ...{ clock, random: randomOf(2), fetch: provider.fetch, store: flappingStore(clock, 2_000), providers: { harbour } },
      warn: () => void troubles++,
    })
    const background = stash.calling({ background: true })
    const tally = new Map<string, number>()
    const count = (what: string) => tally.set(what, (tally.get(what) ?? 0) + 1)
    const late: string[] = []
    const heaps: number[] = []
    let made = 0

    async function call(random: () => number): Promise<void> {
      const path = `/e${Math.floor(random() * 50)}/${Math.floor(random() ** 3 * 30)}`
      const leaving = new AbortController()
      const cancel = random() < 0.05 ? clock.later(random() * 1_000, () => leaving.abort()) : () => {}
      const { fetch } = random() < 0.2 ? background : stash
      const began = clock.now()
      try {
        const response = await fetch(`http://harbour.example${path}`, { signal: leaving.signal })
        if (clock.now() - began > withinMs) late.push(`${path} ${clock.now() - began}`)
        const answer = (await response.json()) as { path?: string }
        count(stash.outcomeOf(response)?.how ?? 'unknown')
        if (response.ok && answer.path !== path && answer.path !== 'default') late.push(`${path} got the answer of ${answer.path}`)
      } catch (error) {
        if (clock.now() - began > withinMs + 4_000) late.push(`${path} ${clock.now() - began}`)
        const known = isStashenError(error) || ['TypeError', 'AbortError', 'SyntaxError'].includes((error as Error).name)
        count(isStashenError(error) ? error.code : known ? (error as Error).name : `unknown: ${error}`)
      }
      cancel()
      if (++made % (callsInAll / 10) === 0) heaps.push(heapMb())
    }

    async function caller(n: number): Promise<void> {
      const random = randomOf(100 + n)
      for (let i = 0; i < callsInAll / callers; i++) {
        await clock.sleep(random() * 800)
        await call(random)
      }
    }

    await clock.run(Promise.all(Array.from({ length: callers }, (_, n) => caller(n))))
    await clock.run(clock.sleep(11_000)) // a store that failed is left alone for so long
    const report = async (tries: number): Promise<Report> => {
      try {
        return await stash.report()
      } catch (error) {
        if (tries === 0) throw error
        await clock.sleep(2_000) // until the store is in a better mood
        return report(tries - 1)
      }
    }
    const { totals } = await clock.run(report(6))
    await clock.run(stash.close())
    await new Promise((turn) => setImmediate(turn))
    process.off('unhandledRejection', noteUnhandled)

    expect(late).to.eql([])
    expect(provider.passed, 'calls past a limit, as the provider saw them').to.eql([])
    expect(unhandled).to.eql([])
    expect([...tally.values()].reduce((sum, n) => sum + n, 0)).to.equal(callsInAll)
    expect([...tally.keys()].filter((what) => what.startsWith('unknown'))).to.eql([])
    for (const what of ['hit', 'stale', 'forwarded', 'collapsed', 'fallback', 'LIMIT_REACHED', 'HELD_OFF', 'TypeError', 'AbortError']) {
      expect(tally.get(what), `${what} in ${JSON.stringify([...tally])}`).to.be.above(callsInAll / 1_000 - 1)
    }
    expect(totals.with).to.include({ asked: callsInAll, upstream: provider.calls })
    expect(troubles).to.be.within(1, 200)
    const [, second = 0] = heaps
    expect(heaps.at(-1), `heap by tenths of the storm: ${heaps.map((mb) => mb.toFixed(1))} MB`).to.be.below(second * 1.15 + 2)
  })
})
