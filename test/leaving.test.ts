import { spawn } from 'node:child_process'
import { once } from 'node:events'
import { createServer } from 'node:http'
import type { AddressInfo } from 'node:net'
import { fileURLToPath } from 'node:url'
import { expect } from 'chai'
import { openStash, type Store } from 'stashen'
import { redisStore } from 'stashen/redis'
import { sqliteStore } from 'stashen/sqlite'
import { temporaryFolder } from './support/files.js'
import { haveRedis } from './support/needs.js'
import { RedisServer } from './support/redis-server.js'

const program = fileURLToPath(new URL('./support/leaving.process.js', import.meta.url))

/** A server that leaves `/slow` without an answer, and counts what arrives. */
async function counting() {
  let [calls, slow] = [0, 0]
  let bothArrived: (() => void) | undefined
  const server = createServer((request, response) => {
    if (request.url === '/both-arrived') {
      bothArrived = () => void response.end()
      if (slow >= 2) bothArrived()
      return
    }
    calls++
    if (!request.url?.startsWith('/slow')) return void response.end('{}')
    if (++slow >= 2) bothArrived?.()
  })
  await new Promise<void>((listening) => server.listen(0, '127.0.0.1', listening))
  const close = () => {
    server.closeAllConnections()
    server.close()
  }
  return { base: `http://127.0.0.1:${(server.address() as AddressInfo).port}`, calls: () => calls, close }
}

async function booksOf(store: Store) {
  await using stash = await openStash({ store })
  const [provider] = (await stash.status()).providers
  const { with: made, without } = (await stash.report()).totals
  return {
    asked: made?.asked,
    upstream: made?.upstream,
    money: made?.money[0]?.amount,
    used: 100 - (provider?.limits[0]?.left ?? 100),
    without: without.upstream,
  }
}

describe('a program that ends without closing its stash', () => {
  const file = temporaryFolder()

  async function kept(address: string, open: () => Store, hows: readonly [how: string, code: number][]) {
    for (const [how, code] of hows) {
      const server = await counting()
      try {
        const before = await booksOf(open()).catch(() => undefined)
        const child = spawn(process.execPath, [program, address, server.base, how], { stdio: 'ignore' })
        expect((await once(child, 'exit'))[0], how).to.equal(code)
        const after = await booksOf(open())
        const [asked, upstream] = [(after.asked ?? 0) - (before?.asked ?? 0), (after.upstream ?? 0) - (before?.upstream ?? 0)]
        expect([asked, upstream], how).to.eql([server.calls(), server.calls()])
        expect(after.used - (before?.used ?? 0), `${how}: of the quota`).to.equal(server.calls())
        expect(Number(after.money) - Number(before?.money ?? 0), how).to.be.closeTo(server.calls() / 100, 1e-9)
      } finally {
        server.close()
      }
    }
  }

  it('keeps its books in an SQLite file: by running out of work, by exit, by an error', () =>
    kept(file('left.db'), () => sqliteStore(file('left.db')), [
      ['out of work', 0],
      ['exit', 3],
      ['throw', 1],
    ]))

  if (haveRedis('programs that end without closing a Redis store'))
    it('keeps them on a Redis server', async () => {
      const server = await RedisServer.start()
      try {
        await kept(server.url, () => redisStore({ url: server.url }), [['exit', 3]])
      } finally {
        await server.remove()
      }
    })
})
