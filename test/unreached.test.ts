import { createServer } from 'node:http'
import { type AddressInfo, createServer as createTcpServer } from 'node:net'
import { expect } from 'chai'
import { openStash, type ProviderOptions } from 'stashen'

/** A server that counts what arrives at it, and a port at which nobody listens. */
async function withServer(play: (base: string, arrived: () => number, closedPort: number) => Promise<void>): Promise<void> {
  let arrived = 0
  const server = createServer((request, response) => {
    arrived++
    if (request.url?.startsWith('/cut')) return request.socket.destroy()
    if (request.url?.startsWith('/hang')) return
    if (request.url?.startsWith('/moved')) return response.writeHead(302, { location: `http://127.0.0.1:${closed}/` }).end()
    if (request.url?.startsWith('/lost')) return response.writeHead(302, { location: 'http://kelpmouth.invalid/' }).end()
    return response.end('{}')
  })
  const unused = createTcpServer()
  for (const one of [server, unused]) await new Promise<void>((listening) => one.listen(0, '127.0.0.1', listening))
  const closed = (unused.address() as AddressInfo).port
  await new Promise((done) => unused.close(done))
  try {
    await play(`http://127.0.0.1:${(server.address() as AddressInfo).port}`, () => arrived, closed)
  } finally {
    server.closeAllConnections()
    server.close()
  }
}

type Call = readonly [input: string | Request, init?: RequestInit]

function usedStream(): ReadableStream {
  const { body } = new Response('kelp')
  body?.getReader()
  return body as ReadableStream
}

async function usedRequest(url: string): Promise<Request> {
  const request = new Request(url, { method: 'POST', body: 'kelp' })
  await request.text()
  return request
}

/** Calls that the runtime sends nowhere: their caller's mistake. */
const rejected: Record<string, (url: string) => Call | Promise<Call>> = {
  'a GET with a body': (url) => [url, { body: 'kelp' }],
  'a HEAD with a body': (url) => [url, { method: 'HEAD', body: 'kelp' }],
  'a user in the URL': (url) => [url.replace('//', '//harbour:SESAME@')],
  'a stream that was used': (url) => [url, { method: 'POST', body: usedStream(), duplex: 'half' } as RequestInit],
  'a Request that was used': async (url) => [await usedRequest(url)],
  'a method that is none': (url) => [url, { method: 'TRACE' }],
  'a field that is none': (url) => [url, { headers: { 'no field': 'x' } }],
  'an option that is none': (url) => [url, { redirect: 'nowhere' as never }],
}

/** Calls that reach no provider, by where they go. */
const unreached: Record<string, (base: string, closedPort: number) => string> = {
  'a refused connection': (_base, closedPort) => `http://127.0.0.1:${closedPort}`,
  'a name that does not resolve': () => 'http://tides.kelpmouth.invalid',
  'a server that speaks no TLS': (base) => base.replace('http:', 'https:'),
  'a port that is called by nobody': () => 'http://127.0.0.1:6000',
}

/** Calls of which it is not known, or certain, that the provider saw them. */
const mayHaveReached: Record<string, string> = {
  'a connection that breaks': '/cut',
  'no answer in time': '/hang',
  'a redirect to a refused connection': '/moved',
  'a redirect to a name that does not resolve': '/lost',
}

describe('a call that never reached its provider', () => {
  const provider = (baseUrl: string, timeout = '1 min'): ProviderOptions => ({
    baseUrl,
    limits: [{ calls: 10, per: 'hour' }],
    quota: { calls: 100, per: 'month' },
    budgets: [{ money: '1', per: 'month' }],
    plan: { currency: 'EUR', perCall: '0.01' },
    timeout,
    endpoints: {
      tides: { request: 'GET /tides', freshFor: '1 hour', holdOff: '1 min' },
      notes: { request: 'GET /*', holdOff: '1 min' },
    },
  })

  /** What was counted and used up of the provider. */
  async function counted(
    baseUrl: string,
    act: (stash: Awaited<ReturnType<typeof openStash>>) => Promise<unknown>,
    { isMeasured = false, timeout }: { isMeasured?: boolean; timeout?: string } = {},
  ) {
    const events: string[] = []
    await using stash = await openStash({
      warn: () => {},
      ...(isMeasured && { mode: 'measure' }),
      providers: { ebbline: provider(baseUrl, timeout) },
    })
    stash.on('upstream', ({ how }) => void events.push(how))
    const error = await act(stash).then(
      () => undefined,
      (thrown: unknown) => thrown,
    )
    const [status] = (await stash.status()).providers
    const { totals } = await stash.report()
    return {
      error,
      events,
      cost: stash.outcomeOf(error)?.cost,
      left: status?.limits.map(({ left }) => left) ?? [],
      held: status?.holdOffs.length ?? 0,
      upstream: (totals.with ?? totals.without).upstream,
      money: (totals.with ?? totals.without).money,
      saved: totals.saved,
    }
  }

  it('is no call where the runtime rejects it: nothing is counted, and nobody is held off', () =>
    withServer(async (base, arrived) => {
      for (const [kind, make] of Object.entries(rejected)) {
        const call = await make(`${base}/tides`)
        const plain = await fetch(...((await make(`${base}/tides`)) as [string])).catch((error: Error) => error)
        const after = await counted(base, (stash) => stash.fetch(...(call as [string])))
        expect(after.error, kind).to.be.instanceOf(TypeError)
        expect((after.error as Error).message, kind).to.equal((plain as Error).message.replace('harbour:SESAME@', ''))
        expect(after, kind).to.deep.include({ events: [], upstream: 0, held: 0 })
        expect(
          after.left.every((left) => left === 10 || left === 100),
          `${kind} ${after.left}`,
        ).to.equal(true)
      }
      expect(arrived()).to.equal(0)
    }))

  for (const isMeasured of [false, true]) {
    it(`costs no money, no quota and no place in a limit${isMeasured ? ', nor while measuring' : ''}`, () =>
      withServer(async (base, arrived, closedPort) => {
        for (const [kind, where] of Object.entries(unreached)) {
          const after = await counted(where(base, closedPort), (stash) => stash.fetch(`${where(base, closedPort)}/tides`), { isMeasured })
          expect(after.error, kind).to.be.instanceOf(TypeError)
          expect(after, kind).to.deep.include({ events: ['unreached'], upstream: 0, cost: undefined })
          expect(
            after.money.filter(({ amount }) => Number(amount) !== 0),
            kind,
          ).to.eql([])
          if (isMeasured) continue
          expect(after.held, `${kind}: it failed all the same`).to.equal(1)
          expect(
            after.left.every((left) => left === 10 || left === 100),
            `${kind} ${after.left}`,
          ).to.equal(true)
        }
        expect(arrived()).to.equal(0)
      }))
  }

  it('counts where the provider saw it, or may have', () =>
    withServer(async (base, arrived) => {
      for (const [kind, path] of Object.entries(mayHaveReached)) {
        const before = arrived()
        const timeout = path === '/hang' ? '90 ms' : undefined
        const after = await counted(base, (stash) => stash.fetch(`${base}${path}`), { ...(timeout && { timeout }) })
        expect(after.error, kind).to.be.instanceOf(Error)
        expect([arrived() - before, after.upstream, after.events], kind).to.eql([1, 1, ['failed']])
        expect(after.left, kind).to.include(9)
      }
    }))

  it('saves nothing where older answers take its place', async () => {
    const server = createServer((_request, response) => void response.end('{}'))
    await new Promise<void>((listening) => server.listen(0, '127.0.0.1', listening))
    const base = `http://127.0.0.1:${(server.address() as AddressInfo).port}`
    const endpoints = { tides: { request: 'GET /tides', freshFor: '1 ms', staleIfError: '1 hour', holdOff: '1 min' } } as const
    await using stash = await openStash({
      warn: () => {},
      providers: { ebbline: { baseUrl: base, endpoints, plan: { currency: 'EUR', perCall: '0.01' } } },
    })
    await stash.fetch(`${base}/tides`)
    server.closeAllConnections()
    await new Promise((closed) => server.close(closed))
    const reasons: unknown[] = []
    for (let i = 0; i < 3; i++) reasons.push(stash.outcomeOf(await stash.fetch(`${base}/tides`))?.reason)
    expect(reasons).to.eql(['upstream-failed', 'held-off', 'held-off'])
    const { totals } = await stash.report()
    expect([totals.with?.upstream, totals.without.upstream, totals.saved?.calls]).to.eql([1, 1, 0])
    expect(totals.with?.money).to.eql([{ currency: 'EUR', amount: '0.01' }])
  })
})
