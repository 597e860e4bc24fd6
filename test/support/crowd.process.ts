import { createInterface } from 'node:readline'
import { openStash } from 'stashen'
import { storeNamed } from './two-processes.js'

/**
 * Does what it is told, a line at a time, and writes a line of JSON of each once that is done, with what it came to: `ask PATH TIMES`, so many callers at
 * once, each answer and how it came with how many had it, with a line `asked PATH` once all have called; `read PATH`, as it comes, with a line `first PATH` once there is something of it, until `leave PATH`; `totals`; `purge` or `invalidate` all; `close`.
 */
const [store = '', baseUrl = ''] = process.argv.slice(2)
const headers = { 'user-agent': String(process.pid) }
const stash = await openStash({
  store: storeNamed(store),
  storeTimeout: '5 s',
  providers: {
    harbour: {
      baseUrl,
      endpoints: {
        tide: { request: 'GET /tides/{id}', freshFor: '1 day', staleWhileRevalidate: '1 day' },
        ship: { request: 'GET /ships/{id}', freshFor: '1 day', trust: 'upstream', holdOff: '0 s' },
      },
    },
  },
})
async function ask(path = '', times = '1'): Promise<Record<string, number>> {
  const counts: Record<string, number> = {}
  const calls = Array.from({ length: Number(times) }, async () => {
    const response = await stash.fetch(baseUrl + path, { headers })
    const name = `${await response.text()} ${stash.outcomeOf(response)?.how}`
    counts[name] = (counts[name] ?? 0) + 1
  })
  say(`asked ${path}`, {})
  await Promise.all(calls)
  return counts
}

const leaving = new Map<string, AbortController>()

async function read(path = ''): Promise<Record<string, number>> {
  const caller = new AbortController()
  leaving.set(path, caller)
  const response = await stash.fetch(baseUrl + path, { headers, signal: caller.signal })
  let text = ''
  for await (const bytes of response.body as ReadableStream<Uint8Array>) {
    if (text === '') say(`first ${path}`, {})
    text += new TextDecoder().decode(bytes)
  }
  return { [`${text.length > 100 ? `${text.length} bytes` : text} ${stash.outcomeOf(response)?.how}`]: 1 }
}

async function done(line: string): Promise<unknown> {
  const [what = '', ...rest] = line.split(' ')
  if (what === 'read') return read(...rest)
  if (what === 'leave') return leaving.get(rest[0] ?? '')?.abort()
  if (what === 'totals') return (await stash.report()).totals.with
  return what === 'ask' ? ask(...rest) : stash[what as 'purge' | 'invalidate']({}, { everything: true })
}

const say = (line: string, what: unknown) => process.stdout.write(`${JSON.stringify([line, what])}\n`)
say('ready', {})
for await (const line of createInterface(process.stdin)) {
  if (line === 'close') break
  void done(line).then(
    (what) => say(line, what),
    (error) => say(line, { [String(error)]: 1 }),
  )
}
await stash.close()
process.exit() // a cluster's client that was handed in stays connected
