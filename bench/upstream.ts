import { fork } from 'node:child_process'
import { once } from 'node:events'
import { createServer } from 'node:http'
import type { AddressInfo } from 'node:net'
import { fileURLToPath } from 'node:url'

/** What the simulated provider answers: about a kilobyte. */
export const kilobyte = {
  id: 'v-201',
  log: Array.from({ length: 16 }, (_, i) => ({ at: `2026-06-30T06:${10 + i}:00+02:00`, lat: 58.31 + i / 1000 })),
}

/** A provider in a process of its own, on a loopback address, which answers at once. */
export async function startUpstream(): Promise<{ readonly url: string; stop(): void }> {
  const child = fork(fileURLToPath(import.meta.url), [], { env: { ...process.env, STASHEN_BENCH_UPSTREAM: '1' } })
  const [url] = (await once(child, 'message')) as [string]
  return { url, stop: () => child.kill() }
}

if (process.env.STASHEN_BENCH_UPSTREAM === '1' && process.send) {
  const body = JSON.stringify(kilobyte)
  const server = createServer({ keepAliveTimeout: 60_000 }, (_request, response) => {
    response.writeHead(200, { 'content-type': 'application/json', 'content-length': Buffer.byteLength(body) }).end(body)
  })
  server.listen(0, '127.0.0.1', () => process.send?.(`http://127.0.0.1:${(server.address() as AddressInfo).port}`))
  process.on('disconnect', () => process.exit())
}
