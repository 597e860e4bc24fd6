import { createServer } from 'node:http'
import type { AddressInfo } from 'node:net'
import { type EndpointOptions, openStash } from 'stashen'
import type { Ratio } from './compare.js'

const limit = 1.2
const rounds = 51
const callsEach = 8

/**
 * Time from the call to the first chunk of a stream, against plain fetch, with each option that could hold it back. The server is on loopback and
 * takes `upstreamMs` until its first chunk; the rest follows when that was read.
 */
export async function firstChunkRatios(upstreamMs: number): Promise<Ratio[]> {
  const server = createServer((_request, response) => {
    const begin = () => {
      response.writeHead(200, { 'content-type': 'text/event-stream' }).write('data: first\n\n')
      setTimeout(() => response.end('data: last\n\n'), 2)
    }
    if (upstreamMs > 0) setTimeout(begin, upstreamMs)
    else begin()
  })
  await new Promise<void>((listening) => server.listen(0, '127.0.0.1', listening))
  const base = `http://127.0.0.1:${(server.address() as AddressInfo).port}`
  const endpoints: Record<string, EndpointOptions> = {
    plain: { request: 'GET /0/{id}' },
    retries: { request: 'GET /1/{id}', retries: 3 },
    fallback: { request: 'GET /2/{id}', freshFor: '1 s', fallback: { json: null } },
    staleIfError: { request: 'GET /3/{id}', freshFor: '1 s', staleIfError: '1 day' },
    limits: { request: 'GET /4/{id}', limits: [{ calls: 1_000_000, per: 'minute' }, { atOnce: 4 }] },
  }
  const stash = await openStash({ providers: { skerrylight: { baseUrl: base, endpoints } } })
  const ratios: Ratio[] = []
  let id = 0
  for (const [i, name] of Object.keys(endpoints).entries()) {
    const taken: { ourNs: number; baselineNs: number; ratio: number }[] = []
    for (let round = -5; round < rounds; round++) {
      let [ourNs, baselineNs] = [0, 0]
      for (let call = 0; call < callsEach; call++) {
        baselineNs += await toFirstChunk(fetch, `${base}/${i}/${id++}`)
        ourNs += await toFirstChunk(stash.fetch, `${base}/${i}/${id++}`)
      }
      if (round >= 0) taken.push({ ourNs: ourNs / callsEach, baselineNs: baselineNs / callsEach, ratio: ourNs / baselineNs })
    }
    taken.sort((a, b) => a.ratio - b.ratio)
    ratios.push({ ...(taken[rounds >> 1] as (typeof taken)[number]), name: `first chunk after ${upstreamMs} ms, ${name}`, limit })
  }
  await stash.close()
  server.closeAllConnections()
  await new Promise((closed) => server.close(closed))
  return ratios
}

async function toFirstChunk(get: typeof fetch, url: string): Promise<number> {
  const began = performance.now()
  const response = await get(url)
  const reader = (response.body as ReadableStream<Uint8Array>).getReader()
  await reader.read()
  const ns = (performance.now() - began) * 1e6
  while (!(await reader.read()).done);
  return ns
}
