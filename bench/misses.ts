import { fork } from 'node:child_process'
import { once } from 'node:events'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { fileURLToPath } from 'node:url'
import { openStash, type Stash, type Store } from 'stashen'
import { sqliteStore } from 'stashen/sqlite'
import { compare, medianBy, type Ratio } from './compare.js'
import { kilobyte, startUpstream } from './upstream.js'

type Limits = 'no limits' | 'limits, quota and budget'

/** A stash whose every call to `/vessels/{id}` is a miss, where ids do not come again. */
function stashOf(baseUrl: string, limits: Limits, store: Store | undefined, fetch?: typeof globalThis.fetch): Promise<Stash> {
  const bounds = {
    limits: [{ calls: 1_000_000, per: 'minute' as const }, { atOnce: 4_096 }],
    quota: { calls: 100_000_000, per: 'month' as const, zone: 'Europe/Oslo' },
    plan: { currency: 'EUR', perCall: '0.0001' },
    budgets: [{ money: '100000', per: 'month' as const, zone: 'Europe/Oslo' }],
  }
  return openStash({
    ...(store && { store }),
    ...(fetch && { fetch }),
    providers: {
      skerrylight: {
        ...{ baseUrl, queue: 10_000, ...(limits === 'no limits' ? {} : bounds) },
        endpoints: { vessel: { request: 'GET /vessels/{id}', freshFor: '1 day' } },
      },
    },
  })
}

/** Misses over a keep-alive connection on loopback against plain fetch, one after the other and 64 at once. */
export async function missRatios(): Promise<Ratio[]> {
  const upstream = await startUpstream()
  const ratios: Ratio[] = []
  for (const [store, limits, limit] of [
    ['memory', 'no limits', 1.8],
    ['SQLite', 'limits, quota and budget', 3],
  ] as const)
    for (const atOnce of [1, 64]) {
      const folder = mkdtempSync(join(tmpdir(), 'stashen-bench-'))
      const stash = await stashOf(upstream.url, limits, store === 'SQLite' ? sqliteStore(join(folder, 'bench.db')) : undefined)
      let id = 0
      const get = async (fetch: typeof globalThis.fetch) => (await fetch(`${upstream.url}/vessels/v-${id++}`)).json()
      const all = (fetch: typeof globalThis.fetch) => Promise.all(Array.from({ length: atOnce }, () => get(fetch)))
      const name = `miss, ${store}, ${limits}, ${atOnce} at once`
      const comparison = { name, ours: () => all(stash.fetch), baseline: () => all(globalThis.fetch), limit }
      ratios.push(await compare({ ...comparison, each: atOnce, roundMs: 40, rounds: 51 }))
      await stash.close()
      rmSync(folder, { recursive: true })
    }
  upstream.stop()
  return ratios
}

/** A provider in this process that answers after `ms`. */
function simulated(ms: number): typeof globalThis.fetch {
  const body = new TextEncoder().encode(JSON.stringify(kilobyte))
  const headers = { 'content-type': 'application/json' }
  return (async () => {
    await new Promise((resolve) => setTimeout(resolve, ms))
    return new Response(body, { headers })
  }) as typeof globalThis.fetch
}

const baseUrl = 'https://positions.skerrylight.example/v1'

/** Processor time of a miss with many calls in flight against that with few. */
export async function inFlightRatio(): Promise<Ratio> {
  const [few, many] = [64, 2_048]
  const folder = mkdtempSync(join(tmpdir(), 'stashen-bench-'))
  const stash = await stashOf(baseUrl, 'limits, quota and budget', sqliteStore(join(folder, 'bench.db')), simulated(20))
  let id = 0
  const cpuNs = async (atOnce: number) => {
    const before = process.cpuUsage()
    for (let left = 4_096; left > 0; left -= atOnce)
      await Promise.all(Array.from({ length: atOnce }, async () => (await stash.fetch(`${baseUrl}/vessels/v-${id++}`)).json()))
    const { user, system } = process.cpuUsage(before)
    return ((user + system) * 1e3) / 4_096
  }
  const taken: Taken[] = []
  for (let round = -1; round < 5; round++) {
    const [baselineNs, ourNs] = [await cpuNs(few), await cpuNs(many)]
    if (round >= 0) taken.push({ ourNs, baselineNs, ratio: ourNs / baselineNs })
  }
  await stash.close()
  rmSync(folder, { recursive: true })
  return { ...medianBy(taken, ({ ratio }) => ratio), name: `processor time of a miss, ${many} in flight against ${few}`, limit: 1.2 }
}

const processMs = 3_000

/** How many misses two processes make on one file while one makes one; and while two make one that have a file each, which is what the machine can do. */
export async function processesRatios(): Promise<Ratio[]> {
  const against = { one: [] as Taken[], apart: [] as Taken[] }
  for (let round = 0; round < 3; round++) {
    const [one, two, apart] = [await missesOf(1), await missesOf(2), await missesOf(2, { apart: true })]
    const ns = (misses: number) => (processMs * 1e6) / misses
    against.one.push({ ourNs: ns(two), baselineNs: ns(one), ratio: one / two })
    against.apart.push({ ourNs: ns(two), baselineNs: ns(apart), ratio: apart / two })
  }
  return [
    { ...medianBy(against.one, ({ ratio }) => ratio), name: 'a miss of two processes on one file against one', limit: 0.667 },
    { ...medianBy(against.apart, ({ ratio }) => ratio), name: 'a miss of two processes on one file against two on two', limit: 1.3 },
  ]
}

interface Taken {
  readonly ourNs: number
  readonly baselineNs: number
  readonly ratio: number
}

async function missesOf(processes: number, { apart = false } = {}): Promise<number> {
  const folder = mkdtempSync(join(tmpdir(), 'stashen-bench-'))
  const children = Array.from({ length: processes }, (_, i) => {
    const file = join(folder, apart ? `bench-${i}.db` : 'bench.db')
    return fork(fileURLToPath(import.meta.url), [], { env: { ...process.env, STASHEN_BENCH_FILE: file } })
  })
  await Promise.all(children.map((child) => once(child, 'message'))) // ready
  const made = children.map((child) => once(child, 'message') as Promise<[number]>)
  for (const child of children) child.send('go')
  const calls = (await Promise.all(made)).reduce((sum, [one]) => sum + one, 0)
  await Promise.all(children.map((child) => once(child, 'exit')))
  rmSync(folder, { recursive: true })
  return calls
}

async function missInto(file: string): Promise<void> {
  const stash = await stashOf(baseUrl, 'limits, quota and budget', sqliteStore(file), simulated(1))
  let calls = 0
  const until = async (end: number, count: boolean) => {
    while (performance.now() < end) {
      await (await stash.fetch(`${baseUrl}/vessels/v-${process.pid}-${calls + (count ? 0 : Math.random())}`)).json()
      if (count) calls++
    }
  }
  const callers = async (ms: number, count: boolean) => {
    const end = performance.now() + ms
    await Promise.all(Array.from({ length: 16 }, () => until(end, count)))
  }
  await callers(300, false)
  process.send?.('ready')
  await once(process, 'message')
  await callers(processMs, true)
  process.send?.(calls)
  await stash.close()
  process.disconnect()
}

const { STASHEN_BENCH_FILE: fileOfChild } = process.env
if (fileOfChild !== undefined && process.send) await missInto(fileOfChild)
