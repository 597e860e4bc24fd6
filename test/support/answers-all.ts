// Loaded before a program of the documentation: an API that answers every URL, in place of the network.
let n = 0

/** For the next program: answers are numbered from 1 again. */
export function restart(): void {
  n = 0
}

const loopback = globalThis.fetch
globalThis.fetch = async (input, init) => {
  const { url } = new Request(input, init)
  const { hostname, pathname } = new URL(url)
  if (hostname === '127.0.0.1') return loopback(input, init)
  return Response.json({ path: pathname, n: ++n, usage: { read: 1_000, written: 700 } })
}
