import { spawnSync } from 'node:child_process'
import { mkdtempSync, rmSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { fileURLToPath } from 'node:url'
import { openStash } from 'stashen'
import { sqliteStore } from 'stashen/sqlite'
import type { Ratio } from './compare.js'

const bin = fileURLToPath(new URL('../bin/stashen.js', import.meta.url))
const rounds = 15

/** What it takes to start the command line, against Node doing nothing. */
export async function startupRatios(): Promise<Ratio[]> {
  const folder = mkdtempSync(join(tmpdir(), 'stashen-startup-'))
  const [config, store] = [join(folder, 'stashen.config.yaml'), join(folder, 'small.db')]
  const providers = {
    ebbline: { baseUrl: 'https://tides.ebbline.example/v2', endpoints: { tides: { request: 'GET /tides/{day}', freshFor: '1 day' } } },
  }
  writeFileSync(config, JSON.stringify({ providers }))
  const stash = await openStash({ store: sqliteStore(store), providers, fetch: async () => new Response('high') })
  for (let i = 0; i < 20; i++) await (await stash.fetch(`https://tides.ebbline.example/v2/tides/${i % 5}`)).text()
  await stash.close()
  const commands: [name: string, args: string[], limit: number][] = [
    ['stashen --version', ['--version'], 1.7],
    ['stashen --help', ['--help'], 1.7],
    ['stashen check', ['check', '--config', config], 2.5],
    ['stashen report of a small store', ['report', '--store', store], 2.5],
  ]
  const took = (args: readonly string[]) => {
    const began = process.hrtime.bigint()
    const { status, stderr } = spawnSync(process.execPath, args, { encoding: 'utf8' })
    if (status !== 0) throw new Error(stderr)
    return Number(process.hrtime.bigint() - began)
  }
  try {
    return commands.map(([name, args, limit]) => {
      const times = Array.from({ length: rounds }, () => {
        const [baselineNs, ourNs] = [took(['-e', '0']), took([bin, ...args])]
        return { baselineNs, ourNs, ratio: ourNs / baselineNs }
      }).sort((one, other) => one.ratio - other.ratio)
      return { name: `${name}, against node -e 0`, limit, ...(times[Math.floor(rounds / 2)] as (typeof times)[number]) }
    })
  } finally {
    rmSync(folder, { recursive: true })
  }
}
