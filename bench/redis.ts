import { spawn } from 'node:child_process'
import { existsSync, mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { createClient } from 'redis'
import { memoryStore, openStash, type Store } from 'stashen'
import { layeredStore } from 'stashen/layered'
import { type RedisClient, redisStore } from 'stashen/redis'
import { compare, type Ratio } from './compare.js'
import { kilobyte } from './upstream.js'

const server = '/usr/bin/redis-server'
const port = 17_379
const names = Array.from({ length: 64 }, (_, i) => `v-${i}`)

/** Hits on a Redis server of this machine against the bare GET of the same bytes with the same client, one after the other and 64 at once. */
export async function redisRatios(): Promise<Ratio[]> {
  if (!existsSync(server)) {
    console.log(`LEFT OUT: Redis, for there is no ${server}. Get it with: apt-get install redis-server`)
    return []
  }
  const folder = mkdtempSync(join(tmpdir(), 'stashen-bench-'))
  const child = spawn(server, ['--port', String(port), '--save', '', '--dir', folder], { stdio: ['ignore', 'pipe', 'inherit'] })
  for await (const text of child.stdout) if (String(text).includes('Ready to accept')) break
  child.stdout.resume()
  const client = createClient({ url: `redis://127.0.0.1:${port}` })
  client.on('error', () => {})
  const stash = await openStash({ store: redisStore({ client: client as unknown as RedisClient }) })
  const vessel = stash.operation('skerrylight.vessel', async (name: string) => ({ ...kilobyte, name }), { freshFor: '1 day' })
  for (const name of names) {
    await vessel(name)
    await client.set(`bare:${name}`, JSON.stringify({ ...kilobyte, name }))
  }
  while ((await vessel.withOutcome('v-63')).outcome.how !== 'hit');
  let turn = 0
  const ratios: Ratio[] = []
  for (const atOnce of [1, 64]) {
    const all = (ask: (name: string) => Promise<unknown>) =>
      Promise.all(Array.from({ length: atOnce }, () => ask(names[turn++ & 63] as string)))
    ratios.push(
      await compare({
        name: `operation in Redis, a 1 KB object, against GET and one parse, ${atOnce} at once`,
        ours: () => all(vessel),
        baseline: () => all(async (name) => JSON.parse((await client.get(`bare:${name}`)) as string)),
        limit: 1.15,
        each: atOnce,
      }),
    )
  }
  ratios.push(await layeredRatio(client as unknown as RedisClient))
  await stash.close()
  await client.close()
  child.kill()
  rmSync(folder, { recursive: true })
  return ratios
}

/** A hit among the copies that a layer keeps of a Redis server's entries, against one in memory. */
async function layeredRatio(client: RedisClient): Promise<Ratio> {
  const opened = async (store: Store) => {
    const stash = await openStash({ store })
    const vessel = stash.operation('skerrylight.vessel', async (name: string) => ({ ...kilobyte, name }), { freshFor: '1 day' })
    await vessel('near')
    while ((await vessel.withOutcome('near')).outcome.how !== 'hit');
    return { stash, vessel }
  }
  const layered = await opened(layeredStore({ far: redisStore({ client, prefix: 'layered' }), nearFor: '1 day' }))
  const memory = await opened(memoryStore())
  const ratio = await compare({
    name: 'operation behind a near layer, a 1 KB object, against memory',
    ours: () => layered.vessel('near'),
    baseline: () => memory.vessel('near'),
    limit: 1.2,
  })
  await layered.stash.close()
  await memory.stash.close()
  return ratio
}
