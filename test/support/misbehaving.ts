import { createServer, type IncomingMessage, type ServerResponse } from 'node:http'
import { type AddressInfo, createServer as createRawServer, type Server } from 'node:net'

type Http = (request: IncomingMessage, response: ServerResponse) => void

const json = (status: number, value: string, fields: Record<string, string> = {}): Http => {
  return (_request, response) => void response.writeHead(status, { 'content-type': 'application/json', ...fields }).end(value)
}

/** What a server does to a request whose path begins with the fault's name. */
const byHttp: Record<string, Http> = {
  'hung before its answer': () => {},
  'hung in its body': (_request, response) => void response.writeHead(200).write('{"half":'),
  'cut before its answer': (request) => void request.socket.destroy(),
  'cut in its body': (_request, response) => {
    response.writeHead(200, { 'content-type': 'application/json' })
    response.write('{"half":', () => response.destroy())
  },
  'status 500': json(500, '{}'),
  'status 503, ask again in 60 s': json(503, '{}', { 'retry-after': '60' }),
  'status 429': json(429, '{}', { 'retry-after': '60' }),
  'a chosen status, 403': json(403, '{}'),
  '200 with an error inside': json(200, '{"error":{"code":17}}'),
  'JSON that does not parse': json(200, '{"n":1'),
}

/** What is sent in place of an answer. */
const byBytes: Record<string, string> = {
  'fewer bytes than its length': 'HTTP/1.1 200 OK\r\ncontent-type: text/plain\r\ncontent-length: 100\r\nconnection: close\r\n\r\nshort',
  'bytes that are no HTTP': '220 harbour mail ready\r\n',
}

export const faults = ['no connection', 'a name nobody knows', 'no TLS', ...Object.keys(byBytes), ...Object.keys(byHttp)]

/** A server that answers well, or with any fault that is asked for by `fetch`; and the parts of the network that are not there. */
export async function misbehaving() {
  const received: string[] = []
  const http = createServer((request, response) => {
    const [, fault = '', path = ''] = /^\/([^/]*)\/(.*)$/.exec(decodeURIComponent(request.url ?? '')) ?? []
    received.push(path)
    const act = byHttp[fault] ?? json(200, `{"n":"${path}"}`)
    act(request, response)
  })
  const raw = createRawServer((socket) => {
    socket.on('error', () => {})
    socket.once('data', (data) => {
      const [, fault = '', path = ''] = /^GET \/([^/]*)\/(\S*)/.exec(String(data)) ?? []
      received.push(path)
      socket.end(byBytes[decodeURIComponent(fault)] ?? '')
    })
  })
  const dead = await portOf(createRawServer())
  const ports = { http: await portOf(http, true), raw: await portOf(raw, true) }

  /** A `fetch` whose requests meet a fault, or none. */
  const fetchWith =
    (fault: () => string): typeof globalThis.fetch =>
    (input, init) => {
      const path = new URL(String(input)).pathname.slice(1)
      const there = `${encodeURIComponent(fault())}/${path}`
      if (fault() === 'no connection') return fetch(`http://127.0.0.1:${dead}/${there}`, init)
      if (fault() === 'a name nobody knows') return fetch(`http://${'x'.repeat(64)}.example/${there}`, init)
      if (fault() === 'no TLS') return fetch(`https://127.0.0.1:${ports.http}/${there}`, init)
      return fetch(`http://127.0.0.1:${fault() in byBytes ? ports.raw : ports.http}/${there}`, init)
    }
  return {
    received,
    fetchWith,
    async close() {
      http.closeAllConnections()
      await Promise.all([http, raw].map((server) => new Promise((closed) => server.close(closed))))
    },
  }
}

/** The port that a server listens at; one that is to be dead is closed again. */
async function portOf(server: Server, stays = false): Promise<number> {
  await new Promise<void>((listening) => server.listen(0, '127.0.0.1', listening))
  const { port } = server.address() as AddressInfo
  if (!stays) await new Promise((closed) => server.close(closed))
  return port
}
