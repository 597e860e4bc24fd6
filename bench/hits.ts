import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { memoryStore, openStash, type Stash } from 'stashen'
import { sqliteStore } from 'stashen/sqlite'
import { openDriver } from '../src/stores/sqlite/open-driver.js'
import { type Comparison, compare, type Ratio } from './compare.js'
import { kilobyte } from './upstream.js'

const names = Array.from({ length: 64 }, (_, i) => `Marram ${i}`)
let turn = 0
const nextName = () => names[turn++ & 63] as string

const idOf = async (name: string) => `v-201 of ${name}`
const vesselOf = async (name: string) => ({ ...kilobyte, name })

/** Every row that compares the time of a hit with that of what a developer would write by hand. */
export async function hitRatios(): Promise<Ratio[]> {
  return [await operationText(), await operationObject(), ...(await responses()), await rotation(), ...(await sqlite())]
}

/** An async function over a `Map` with an expiry check and a template-string key; objects are kept as JSON text, so receivers cannot change them. */
function byHand<T>(
  call: (name: string) => Promise<T>,
  keep: (value: T) => string,
  give: (kept: string) => T,
): (name: string) => Promise<T> {
  const kept = new Map<string, { value: string; until: number }>()
  return async (name) => {
    const key = `vessel:${name}`
    const known = kept.get(key)
    if (known !== undefined && Date.now() < known.until) return give(known.value)
    const value = await call(name)
    kept.set(key, { value: keep(value), until: Date.now() + 86_400_000 })
    return value
  }
}

async function operationText(): Promise<Ratio> {
  const stash = await openStash()
  const ours = stash.operation('skerrylight.id', idOf, { freshFor: '1 day' })
  const hand = byHand(
    idOf,
    (value) => value,
    (kept) => kept,
  )
  return timed(stash, {
    name: 'operation in memory, a string',
    ours: () => ours(nextName()),
    baseline: () => hand(nextName()),
    limit: 1.15,
  })
}

async function operationObject(): Promise<Ratio> {
  const stash = await openStash()
  const ours = stash.operation('skerrylight.vessel', vesselOf, { freshFor: '1 day' })
  const hand = byHand(vesselOf, JSON.stringify, JSON.parse)
  return timed(stash, {
    name: 'operation in memory, a 1 KB object',
    ours: () => ours(nextName()),
    baseline: () => hand(nextName()),
    limit: 1.15,
  })
}

const url = 'https://positions.skerrylight.example/v1/vessels/v-201'
const bytes = new TextEncoder().encode(JSON.stringify(kilobyte))
const fields = { 'content-type': 'application/json', date: 'Tue, 30 Jun 2026 04:00:00 GMT', etag: '"a1"' }

/** With the fields that a stored answer has. */
async function bareResponse(): Promise<unknown> {
  const headers = { ...fields, 'cache-status': 'stashen; hit; ttl=86399; detail=fresh', age: '0' }
  return new Response(bytes, { headers }).json()
}

function fetchingStash(body = bytes, maxBytes = 64 * 1024 * 1024): Promise<Stash> {
  return openStash({
    store: memoryStore({ maxBytes }),
    fetch: async () => new Response(body, { headers: fields }),
    providers: {
      skerrylight: {
        baseUrl: 'https://positions.skerrylight.example/v1',
        endpoints: { vessel: { request: 'GET /vessels/{id}', freshFor: '1 day' } },
      },
    },
  })
}

async function responses(): Promise<Ratio[]> {
  const request = new Request(url)
  const ways: [name: string, get: (fetch: typeof globalThis.fetch) => Promise<Response>, limit: number][] = [
    ['a URL', (fetch) => fetch(url), 1.15],
    ['an init object', (fetch) => fetch(url, { headers: { accept: 'application/json' } }), 1.5],
    ['a Request', (fetch) => fetch(request), 1.5],
    ['Authorization', (fetch) => fetch(url, { headers: { authorization: 'Bearer kelp-1' } }), 1.5],
  ]
  const ratios: Ratio[] = []
  for (const [name, get, limit] of ways) {
    const stash = await fetchingStash()
    const ours = async () => (await get(stash.fetch)).json()
    ratios.push(await timed(stash, { name: `fetch in memory, ${name}, reading its JSON`, ours, baseline: bareResponse, limit }))
  }
  return ratios
}

const many = 100_000

/** One after the other of many URLs against always the same. */
async function rotation(): Promise<Ratio> {
  const stash = await fetchingStash(new TextEncoder().encode('{"id":"v-201"}'), 1024 * 1024 * 1024)
  const urls = Array.from({ length: many }, (_, i) => `https://positions.skerrylight.example/v1/vessels/v-${i}`)
  for (const one of urls) await (await stash.fetch(one)).arrayBuffer()
  let next = 0
  const ours = async () => (await stash.fetch(urls[next++ % many] as string)).json()
  const baseline = async () => (await stash.fetch(url)).json()
  return timed(stash, { name: `fetch in memory, ${many} URLs in rotation against one`, ours, baseline, limit: 1.5 })
}

/** `columns`: what of an entry a hit needs. */
const columns = 'body, stored_at, fresh_until, invalidated, born_at'

async function sqlite(): Promise<Ratio[]> {
  const folder = mkdtempSync(join(tmpdir(), 'stashen-bench-'))
  const file = join(folder, 'bench.db')
  const ratios: Ratio[] = []
  const ways = [
    ['a string, against its bare select', 1, idOf, (body: unknown) => body, 1.1],
    [
      'a 1 KB object, against its select and one parse',
      2,
      vesselOf,
      (body: unknown) => JSON.parse(decoder.decode(body as Uint8Array)),
      1.15,
    ],
  ] as const
  for (const [name, version, call, read, limit] of ways) {
    const stash = await openStash({ store: sqliteStore(file) })
    const ours = stash.operation('skerrylight.id', call as (name: string) => Promise<unknown>, { freshFor: '1 day', version })
    for (const one of names) await ours(one)
    const driver = openDriver(file)
    const select = driver.prepare(`SELECT ${columns} FROM entry WHERE key = ?`)
    const baseline = async () => read(select.get(`skerrylight.id@${version}["${nextName()}"]`)?.body)
    ratios.push(await timed(stash, { name: `operation in SQLite, ${name}`, ours: () => ours(nextName()), baseline, limit }))
    await driver.close()
  }
  rmSync(folder, { recursive: true })
  return ratios
}

const decoder = new TextDecoder()

/** Fills both, so that only hits are timed, and closes the stash afterwards. */
async function timed(stash: AsyncDisposable, comparison: Comparison): Promise<Ratio> {
  for (const _ of names) {
    await comparison.ours()
    await comparison.baseline()
  }
  try {
    return await compare(comparison)
  } finally {
    await stash[Symbol.asyncDispose]()
  }
}
