import { createServer, type IncomingMessage, type ServerResponse } from 'node:http'
import type { AddressInfo } from 'node:net'
import { openStash, type ProviderOptions, type Stash, type StashConfig, type StashEvents } from 'stashen'

/** What happened, as listeners hear of it. */
interface Heard {
  readonly calls: StashEvents['call'][]
  readonly upstream: StashEvents['upstream'][]
}

export interface RealUpstream extends Heard {
  readonly stash: Stash
  readonly base: string
  /** Requests that arrived, as "METHOD /path". */
  readonly received: string[]
  readonly warnings: string[]
  answer: (request: IncomingMessage, response: ServerResponse) => void
  /** Opens one more stash on the same server. */
  open(provider?: Partial<ProviderOptions>, config?: Partial<StashConfig>): Promise<Stash & Heard>
}

/** A real server, the runtime's own `fetch`, and a stash with the provider "ebbline" between them, until `play` is over. */
export async function realUpstream(
  provider: Omit<ProviderOptions, 'baseUrl'>,
  play: (now: RealUpstream) => Promise<void>,
  config: Partial<StashConfig> = {},
): Promise<void> {
  const received: string[] = []
  const warnings: string[] = []
  const server = createServer((request, response) => {
    received.push(`${request.method} ${request.url}`)
    now.answer(request, response)
  })
  await new Promise<void>((listening) => server.listen(0, '127.0.0.1', listening))
  const base = `http://127.0.0.1:${(server.address() as AddressInfo).port}`
  const opened: Stash[] = []
  const open: RealUpstream['open'] = async (its = provider, more = config) => {
    const stash = await openStash({ warn: (said) => void warnings.push(said), providers: { ebbline: { ...its, baseUrl: base } }, ...more })
    opened.push(stash)
    const heard: Heard = { calls: [], upstream: [] }
    stash.on('call', (event) => void heard.calls.push(event))
    stash.on('upstream', (event) => void heard.upstream.push(event))
    return Object.assign(stash, heard)
  }
  const stash = await open()
  const answer: RealUpstream['answer'] = (_request, response) => void response.end(JSON.stringify({ n: received.length }))
  const now: RealUpstream = { stash, base, received, warnings, open, answer, calls: stash.calls, upstream: stash.upstream }
  try {
    await play(now)
    for (const one of opened) await one.close()
  } finally {
    server.closeAllConnections()
    server.close()
  }
}

/** Waits until something holds, at most two seconds. */
export async function eventually(holds: () => boolean | Promise<boolean>): Promise<void> {
  for (const end = Date.now() + 2_000; Date.now() < end; await new Promise((resolve) => setTimeout(resolve, 5))) if (await holds()) return
  throw new Error('it never held')
}
