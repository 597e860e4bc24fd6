import { fork } from 'node:child_process'
import { once } from 'node:events'
import { fileURLToPath } from 'node:url'
import { memoryStore, openStash } from 'stashen'
import type { Figure } from './figure.js'

const entries = 100_000
const bodyBytes = 200

/** What an entry takes in the memory store beside its key, head and body, and what a process takes of a store that is bounded to 8 MB. */
export async function memoryFigures(): Promise<Figure[]> {
  const perEntry = await measuredIn('entries')
  const bounded = await Promise.all(['urls', 'arguments', 'objects'].map((what) => measuredIn(what)))
  const most = { limit: Math.round(1.3 * maxBytes), unit: 'bytes' } as const
  return [
    { name: 'memory of an entry beside its key, head and body', value: perEntry, limit: 400, unit: 'bytes' },
    { name: 'memory of a process, 8 MB store, 200,000 URLs', value: bounded[0] as number, ...most },
    { name: 'memory of a process, 8 MB store, 4,000 long arguments', value: bounded[1] as number, ...most },
    { name: 'memory of a process, 8 MB store, 1 KB objects', value: bounded[2] as number, ...most },
  ]
}

const maxBytes = 8_000_000

async function measuredIn(what: string): Promise<number> {
  const child = fork(fileURLToPath(import.meta.url), [], { execArgv: ['--expose-gc'], env: { ...process.env, STASHEN_BENCH_MEMORY: what } })
  const [bytes] = (await once(child, 'message')) as [number]
  return bytes
}

/** Bytes that are in use once garbage is gone: of the heap, and of buffers outside it. */
function inUse(): number {
  for (let i = 0; i < 3; i++) globalThis.gc?.()
  const { heapUsed, external } = process.memoryUsage()
  return heapUsed + external
}

async function ofEntries(): Promise<number> {
  const { entries: store } = memoryStore({ maxBytes: 4e9 })
  const put = (i: number) => {
    const key = `GET https://tides.ebbline.example/v2/stations/st-${i}/tides ebbline.tides`
    const head = `{"status":200,"statusText":"","fields":[["content-type","application/json"],["etag","\\"${i}\\""]]}`
    const now = Date.now() + i / 7
    const times = {
      storedAt: now,
      bornAt: now,
      freshUntil: now + 6e4,
      refreshableUntil: now + 6e4,
      usableUntil: now + 9e4,
      keepUntil: now + 9e4,
    }
    // as from a text that was read, and from bytes that arrived: with nothing in common with others
    const [ownKey, ownHead] = [Buffer.from(key).toString(), Buffer.from(head).toString()]
    store.put(
      {
        ...{ key: ownKey, head: ownHead, provider: 'ebbline', endpoint: 'tides', body: new Uint8Array(bodyBytes) },
        ...{ ...times, mustRevalidate: false, invalidated: false },
      },
      now,
    )
    return key.length + head.length + bodyBytes
  }
  for (let i = 0; i < 1_000; i++) put(i)
  const before = inUse()
  let payload = 0
  for (let i = 1_000; i < entries; i++) payload += put(i)
  return (inUse() - before - payload) / (entries - 1_000)
}

async function ofStash(what: string): Promise<number> {
  const body = new TextEncoder().encode('{"id":"v-201"}')
  const before = inUse()
  const stash = await openStash({
    store: memoryStore({ maxBytes }),
    fetch: async () => new Response(body),
    providers: {
      skerrylight: {
        baseUrl: 'https://positions.skerrylight.example',
        endpoints: { vessel: { request: 'GET /v/{id}', freshFor: '1 day' } },
      },
    },
  })
  const find = stash.operation('skerrylight.find', async (name: string) => name.length, { freshFor: '1 day' })
  const log = stash.operation(
    'skerrylight.log',
    async (id: number) => ({ id, log: Array.from({ length: 16 }, (_, i) => ({ at: `2026-06-30T06:${10 + i}:00+02:00`, lat: 58.31 + i })) }),
    { freshFor: '1 day' },
  )
  for (let i = 0; i < (what === 'urls' ? 200_000 : what === 'arguments' ? 4_000 : 40_000); i++) {
    if (what === 'urls') await (await stash.fetch(`https://positions.skerrylight.example/v/${i}`)).arrayBuffer()
    else if (what === 'arguments') await find(`${i} ${'x'.repeat(100_000)}`)
    else for (let again = 0; again < 2; again++) await log(i)
  }
  await new Promise((resolve) => setTimeout(resolve, 1_500))
  const bytes = inUse() - before
  await stash.close()
  return bytes
}

const { STASHEN_BENCH_MEMORY: whatOfChild } = process.env
if (whatOfChild !== undefined && process.send) {
  process.send(whatOfChild === 'entries' ? await ofEntries() : await ofStash(whatOfChild))
  process.disconnect()
}
