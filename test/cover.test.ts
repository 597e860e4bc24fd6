import { Agent, type ClientRequest, createServer, type IncomingMessage, type RequestOptions, request as requestHttp } from 'node:http'
import type { AddressInfo, Socket } from 'node:net'
import { gzipSync } from 'node:zlib'
import axios from 'axios'
import { expect } from 'chai'
import got, { type OptionsInit } from 'got'
import { openStash, type Stash } from 'stashen'
import { coverGlobally } from 'stashen/cover'

/** A call of `node:http`, and what its client does with it. */
interface Played {
  readonly path: string
  readonly options?: RequestOptions
  /** Ends the request; by default at once. */
  readonly act?: (request: ClientRequest, seen: string[]) => void
}

const chunks = (request: ClientRequest) => {
  for (let i = 0; i < 10; i++) request.write(`chunk ${i};`)
  request.end()
}

const calls: Record<string, Played> = {
  'a call': { path: '/tides/1' },
  'the same again': { path: '/tides/1' },
  'its head': { path: '/tides/1', options: { method: 'HEAD' } },
  'a search, its body in ten chunks': { path: '/search', options: { method: 'POST' }, act: chunks },
  'a write that waits to be told to go on': {
    path: '/notes/1',
    options: { method: 'POST', headers: { expect: '100-continue', 'content-length': 4 } },
    act: (request) => void request.once('continue', () => request.end('kelp')),
  },
  'no content': { path: '/tides/empty' },
  'an error': { path: '/tides/down' },
  'a body that comes slowly': { path: '/tides/slow' },
  'a call that connects to nobody': { path: '/tides/1', options: { port: 1 } },
  'a name that turns out late to have no address': {
    path: '/tides/2',
    options: {
      host: 'localhost',
      lookup: (_name, _options, found) =>
        void setTimeout(() => found(Object.assign(new Error('no such name'), { code: 'ENOTFOUND' }), '', 4), 40),
    },
  },
  'a name in place of an address': { path: '/tides/2', options: { host: 'localhost' } },
  'an agent of its own': { path: '/tides/3', options: { agent: new Agent({ keepAlive: true }) } },
  'no agent': { path: '/tides/4', options: { agent: false } },
  'a time limit of the request': { path: '/tides/hang1', act: (request) => void request.setTimeout(40, () => request.destroy()).end() },
  'a time limit by option': {
    path: '/tides/hang2',
    options: { timeout: 90 },
    act: (request) => void request.once('timeout', () => request.destroy(new Error('too late'))).end(),
  },
  'a time limit of the socket': {
    path: '/tides/hang3',
    act: (request) => void request.once('socket', (socket) => socket.setTimeout(90, () => socket.destroy())).end(),
  },
  'a time limit that is kept': { path: '/tides/slow', act: (request) => void request.setTimeout(5_000, () => request.destroy()).end() },
  'a caller who leaves': {
    path: '/tides/hang4',
    act(request) {
      request.once('finish', () => setTimeout(() => request.destroy(), 20)) // on a busy machine it may take as long to connect
      request.end()
    },
  },
  'an upgrade': {
    path: '/tides/talk',
    options: { headers: { connection: 'upgrade', upgrade: 'talk' } },
    act: (request, seen) => talk(request, seen),
  },
  'an upgrade that comes to mind late': {
    path: '/tides/talk',
    act(request, seen) {
      request.setHeader('connection', 'upgrade')
      request.setHeader('upgrade', 'talk')
      talk(request, seen)
    },
  },
}

function talk(request: ClientRequest, seen: string[]): void {
  request.once('upgrade', (_response, socket: Socket) => {
    socket.once('data', (heard) => {
      seen.push(`heard ${heard}`)
      socket.destroy()
    })
    socket.write('hello')
  })
  request.end()
}

const told = {
  request: ['abort', 'close', 'continue', 'error', 'finish', 'socket', 'timeout'],
  socket: ['lookup', 'connect', 'ready', 'timeout', 'close', 'error', 'free'],
  response: ['aborted', 'end', 'close', 'error'],
}

/** Everything that a client sees of a call, in its order. */
function trace({ path, options = {}, act = (request) => void request.end() }: Played, port: number): Promise<string[]> {
  const seen: string[] = []
  const watch = (of: keyof typeof told, on: NodeJS.EventEmitter) => {
    for (const name of told[of]) on.on(name, (what) => seen.push(`${of} ${name}${name === 'error' ? ` ${what.code ?? what.message}` : ''}`))
  }
  return new Promise((resolve) => {
    const request = requestHttp({ host: '127.0.0.1', port, path, agent: new Agent(), ...options })
    let [isClosed, isSocketDone] = [false, false]
    const over = () => isClosed && isSocketDone && setImmediate(() => setImmediate(() => resolve([...seen])))
    watch('request', request)
    request.once('socket', (socket) => {
      seen.push(`connecting ${socket.connecting}`)
      watch('socket', socket)
      for (const end of ['close', 'free'])
        socket.once(end, () => {
          isSocketDone = true
          over()
        })
    })
    request.once('close', () => {
      isClosed = true
      over()
    })
    request.once('response', (response: IncomingMessage) => {
      seen.push(`response ${response.statusCode} ${response.headers['content-type'] ?? ''}`)
      watch('response', response)
      let body = ''
      response.on('data', (data) => {
        body += data
      })
      response.once('end', () => seen.push(`body ${body}`))
    })
    act(request, seen)
  })
}

async function answering() {
  const arrived: string[] = []
  const server = createServer((request, response) => {
    const { url = '', method } = request
    arrived.push(`${method} ${url}`)
    let body = ''
    request.on('data', (chunk) => {
      body += chunk
    })
    request.on('end', () => {
      if (url.includes('hang')) return
      if (url.includes('empty')) return response.writeHead(204).end()
      if (url.includes('down')) return response.writeHead(500, { 'content-type': 'text/plain' }).end('down')
      if (url.includes('gzip')) return response.writeHead(200, { 'content-encoding': 'gzip' }).end(gzipSync('{"n":1}'))
      response.writeHead(200, { 'content-type': 'application/json' })
      if (!url.includes('slow')) return response.end(JSON.stringify({ url, body }))
      response.write('{"first":')
      return setTimeout(() => response.end('1}'), 20)
    })
  })
  server.on('upgrade', (_request, socket) => {
    socket.write('HTTP/1.1 101 Switching Protocols\r\nconnection: upgrade\r\nupgrade: talk\r\n\r\n')
    socket.on('data', (said) => socket.write(said))
  })
  await new Promise<void>((listening) => server.listen(0, '127.0.0.1', listening))
  const { port } = server.address() as AddressInfo
  const close = () => {
    server.closeAllConnections()
    server.close()
  }
  return { port, arrived, close }
}

function covering(port: number): Promise<Stash> {
  const endpoints = [
    { name: 'tides', request: 'GET /tides/*', freshFor: '1 hour', holdOff: 0 },
    { name: 'search', request: 'POST /search', safe: true, freshFor: '1 hour' },
    { name: 'notes', request: 'POST /notes/{id}' },
  ] as const
  const hosts = [`127.0.0.1:${port}`, `localhost:${port}`, '127.0.0.1:1']
  return openStash({
    warn: () => {},
    providers: Object.fromEntries(hosts.map((host, i) => [`ebbline${i}`, { baseUrl: `http://${host}`, endpoints }])),
  })
}

describe('a program under cover', () => {
  it('sees of its calls through node:http what it sees without: events, time limits, sockets, errors and warnings', async () => {
    const server = await answering()
    const warnings: string[] = []
    const warn = ({ message }: Error) => warnings.push(message)
    process.on('warning', warn)
    try {
      const bare = new Map<string, string[]>()
      for (const [name, played] of Object.entries(calls)) bare.set(name, await trace(played, server.port))
      const arrived = server.arrived.length
      await using stash = await covering(server.port)
      const uncover = await coverGlobally(stash)
      try {
        for (const [name, played] of Object.entries(calls)) {
          const [ours, theirs] = [await trace(played, server.port), bare.get(name)]
          if (played.act === chunks) for (const seen of [ours, theirs]) seen?.sort() // when a body is written out depends on the network
          expect(ours, name).to.eql(theirs)
        }
        const late: Played = { ...calls['a name that turns out late to have no address'], path: '/tides/2-again' }
        for (const seen of await Promise.all([1, 2].map(() => trace(late, server.port))))
          expect(seen, 'one leaves, the other waits for it').to.include('request error ENOTFOUND').and.not.include('socket connect')
      } finally {
        uncover()
      }
      expect(server.arrived.length - arrived, 'two were hits').to.equal(arrived - 3)
      expect(warnings).to.eql([])
    } finally {
      process.off('warning', warn)
      server.close()
    }
  })

  it('has its clients time out as they do without, and gets what is compressed', async () => {
    const server = await answering()
    const url = (path: string) => `http://127.0.0.1:${server.port}${path}`
    const limits: OptionsInit['timeout'][] = [{ response: 40 }, { socket: 40 }, { request: 40 }]
    const failures = async () => [
      ...(await Promise.all(
        limits.map((timeout, i) =>
          got(url(`/tides/hang${i}`), { timeout, retry: { limit: 0 } }).catch((error) => `${error.code} ${error.message}`),
        ),
      )),
      await axios.get(url('/tides/hang'), { timeout: 40 }).catch((error) => `${error.code} ${error.message}`),
      await got(url('/tides/slow'), { timeout: { lookup: 90, connect: 90, secureConnect: 90, socket: 5_000, response: 5_000 } }).text(),
      (await axios.get(url('/tides/gzip'))).data,
    ]
    try {
      const bare = await failures()
      await using stash = await covering(server.port)
      const uncover = await coverGlobally(stash)
      expect(await failures()).to.eql(bare)
      expect(await failures(), 'from store, what there is').to.eql(bare)
      uncover()
    } finally {
      server.close()
    }
  })

  it('keeps calls of other connections apart, sends nothing elsewhere than where it was sent, and covers no call of the stash itself', async () => {
    const server = await answering()
    const url = `http://127.0.0.1:${server.port}/tides/1`
    const count = () => server.arrived.splice(0).length
    try {
      await using stash = await covering(server.port)
      const uncover = await coverGlobally(stash)
      class CrewAgent extends Agent {}
      const [one, other] = [new CrewAgent(), new CrewAgent()]
      for (const httpAgent of [one, other, one, other]) await axios.get(url, { httpAgent })
      expect(count(), 'agents of one class, each by itself').to.equal(2)
      for (const host of ['tides.example', 'tides.example']) await axios.get(url, { headers: { host } })
      expect(count(), 'another host than the one it is sent to').to.equal(2)
      for (let i = 0; i < 2; i++) await axios.get(url, { data: 'a GET with a body' })
      expect(count()).to.equal(2)
      const asInit = new Request(url, { method: 'POST', headers: { 'x-crew': 'marram' }, body: 'kelp' })
      await fetch(url, asInit)
      expect(server.arrived.splice(0), 'a Request in place of init').to.eql(['POST /tides/1'])
      for (const rejectUnauthorized of [true, false, true, false])
        await axios.get(url.replace(/1$/, 'trusting'), { httpAgent: new Agent({ rejectUnauthorized } as object) })
      expect(count(), 'whoever trusts anybody').to.equal(2)
      uncover()
      const endpoints = { tides: { request: 'GET /tides/{id}', freshFor: '1 hour' } } as const
      await using within = await openStash({
        fetch: async (input) => {
          await undefined
          return new Response(JSON.stringify((await axios.get(String(input))).data))
        },
        providers: { ebbline: { baseUrl: `http://127.0.0.1:${server.port}`, endpoints } },
      })
      const undo = await coverGlobally(within)
      for (let i = 0; i < 2; i++) expect((await axios.get(url)).data).to.deep.include({ url: '/tides/1' })
      expect((await (await fetch(url)).json()) as object).to.deep.include({ url: '/tides/1' })
      undo()
      expect(count(), 'axios and fetch differ in their fields').to.equal(2)
    } finally {
      server.close()
    }
  })
})
