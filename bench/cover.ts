import { Agent } from 'node:http'
import axios from 'axios'
import { openStash } from 'stashen'
import { coverGlobally } from 'stashen/cover'
import { compare, medianBy, type Ratio } from './compare.js'
import { startUpstream } from './upstream.js'

/** Calls of axios under cover, against the same over an agent that nothing covers: hits, misses, and calls that no endpoint covers. */
export async function coverRatios(): Promise<Ratio[]> {
  const upstream = await startUpstream()
  const bareAgent = new Agent({ keepAlive: true })
  Object.assign(bareAgent, { addRequest: (Agent.prototype as unknown as { addRequest: unknown }).addRequest })
  const before = await awaits()
  const stash = await openStash({
    providers: {
      skerrylight: { baseUrl: `${upstream.url}/v1`, endpoints: { vessel: { request: 'GET /vessels/{id}', freshFor: '1 day' } } },
    },
  })
  const uncover = await coverGlobally(stash)
  const agent = new Agent({ keepAlive: true })
  let id = 0
  const get = (path: string, httpAgent: Agent) => axios.get(`${upstream.url}${path}`, { httpAgent })
  const rows: [name: string, path: () => string, limit: number][] = [
    ['hit of axios under cover, against the bare call', () => '/v1/vessels/v-1', 1],
    ['miss of axios under cover, against the bare call', () => `/v1/vessels/m-${id++}`, 2],
    ['call of axios under cover that no endpoint covers, against the bare call', () => '/v2/vessels/v-1', 1.1],
  ]
  const ratios: Ratio[] = []
  for (const [name, path, limit] of rows)
    ratios.push(
      await compare({
        name,
        ours: () => get(path(), agent),
        baseline: () => get('/v2/vessels/v-1', bareAgent),
        limit,
        roundMs: 40,
        rounds: 51,
      }),
    )
  const after = await awaits()
  ratios.push({
    name: '20 awaits after covered calls, against before',
    ourNs: after,
    baselineNs: before,
    ratio: after / before,
    limit: 1.2,
  })
  uncover()
  await stash.close()
  upstream.stop()
  return ratios
}

/** Nanoseconds that twenty awaits take. */
async function awaits(): Promise<number> {
  const taken: number[] = []
  for (let round = 0; round < 60; round++) {
    const began = process.hrtime.bigint()
    for (let i = 0; i < 20_000; i++) await undefined
    taken.push(Number(process.hrtime.bigint() - began) / 1_000)
  }
  return medianBy(taken, (one) => one)
}
