import { createServer, type Server } from 'node:http'
import type { AddressInfo } from 'node:net'
import { gzipSync } from 'node:zlib'

/** A provider that counts what reaches it, by method and path. */
export interface CountingServer {
  readonly url: string
  readonly counts: Map<string, number>
  close(): void
}

/** Answers of paths with "tides" change each time; `/refused`, `/down`, `/moved` and `/broken` do what they say. */
export async function countingServer(): Promise<CountingServer> {
  const counts = new Map<string, number>()
  let changes = 0
  const server: Server = createServer((request, response) => {
    const { pathname } = new URL(request.url ?? '', 'http://ebbline.example')
    const name = `${request.method} ${pathname}`
    counts.set(name, (counts.get(name) ?? 0) + 1)
    request.resume().once('end', () => {
      if (pathname.endsWith('/refused')) return response.writeHead(429).end()
      if (pathname.endsWith('/down')) return response.writeHead(502).end()
      if (pathname.endsWith('/moved')) return response.writeHead(302, { location: '/v2/stations/st-017' }).end()
      if (pathname.endsWith('/broken')) {
        response.writeHead(200, { 'content-length': 100 }).write('kelp')
        return setTimeout(() => response.destroy(), 10)
      }
      const body = JSON.stringify({ path: pathname, n: pathname.includes('tides') ? ++changes : 0 })
      const isPacked = /gzip/.test(String(request.headers['accept-encoding']))
      response.writeHead(200, { 'content-type': 'application/json', ...(isPacked && { 'content-encoding': 'gzip' }) })
      return response.end(isPacked ? gzipSync(body) : body)
    })
  })
  await new Promise<void>((listening) => server.listen(0, '127.0.0.1', listening))
  return {
    url: `http://127.0.0.1:${(server.address() as AddressInfo).port}`,
    counts,
    close() {
      server.closeAllConnections()
      server.close()
    },
  }
}
