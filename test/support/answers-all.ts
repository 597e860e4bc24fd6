// Loaded before a program of the documentation: an API that answers every URL, in place of the network.
let n = 0

/** For the next program: answers are numbered from 1 again. */
export function restart(): void {
  n = 0
}

const loopback = globalThis.fetch
globalThis.fetch = async (input, init) => {
  const request = new Request(input, init)
  const { url } = request
  const { hostname, pathname } = new URL(url)
  if (hostname === '127.0.0.1') return loopback(input, init)
  if (pathname === '/graphql') return Response.json({ data: { n: ++n } })
  if (hostname.startsWith('chain.')) return Response.json(replyTo((await request.json()) as RemoteCall | RemoteCall[]))
  return Response.json({ path: pathname, n: ++n, usage: { read: 1_000, written: 700 } })
}

interface RemoteCall {
  readonly id: unknown
  readonly method: string
}

function replyTo(asked: RemoteCall | RemoteCall[]): unknown {
  if (Array.isArray(asked)) return asked.map((one) => replyTo(one))
  return { jsonrpc: '2.0', id: asked.id, result: asked.method === 'eth_chainId' ? '0x2a' : 'sent' }
}
