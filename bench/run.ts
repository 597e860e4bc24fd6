import { execFileSync } from 'node:child_process'
import { appendFileSync } from 'node:fs'
import { entryFigures, yearFigures } from './blocking.js'
import { bundleFigures } from './bundle.js'
import { upstreamCallsOf } from './collapse.js'
import type { Ratio } from './compare.js'
import { coverRatios } from './cover.js'
import type { Figure } from './figure.js'
import { firstChunkRatios } from './first-chunk.js'
import { hitRatios } from './hits.js'
import { recordingRatio, reportRatio } from './ledger.js'
import { keyRatio, matchingRatio } from './matching.js'
import { memoryFigures } from './memory.js'
import { inFlightRatio, missRatios, processesRatios } from './misses.js'
import { packingRows } from './packing.js'
import { redisRatios } from './redis.js'
import { startupRatios } from './startup.js'

type Row = Ratio | Figure

const askers = 10_000

/** What can be measured, by the names that `npm run bench -- NAME...` takes; all of it where none is given. */
const groups: Record<string, () => Promise<readonly Row[]>> = {
  hits: hitRatios,
  redis: redisRatios,
  matching: async () => [await matchingRatio(), await keyRatio()],
  misses: async () => [...(await missRatios()), await inFlightRatio(), ...(await processesRatios())],
  cover: coverRatios,
  recording: async () => [await recordingRatio()],
  streams: async () => [...(await firstChunkRatios(20)), ...(await firstChunkRatios(0))],
  collapsing: async () => [
    { name: `upstream calls of ${askers} simultaneous askers`, value: await upstreamCallsOf(askers), limit: 1, unit: 'calls' },
  ],
  startup: startupRatios,
  bundle: bundleFigures,
  packing: packingRows,
  memory: memoryFigures,
  entries: entryFigures,
  year: yearFigures,
  ledger,
}

const wanted = process.argv.slice(2)
const unknown = wanted.filter((name) => !Object.hasOwn(groups, name))
if (unknown.length > 0) {
  console.error(`no benchmark is named ${unknown.join(', ')}: name some of ${Object.keys(groups).join(', ')}, or none for all`)
  process.exit(2)
}
console.log(`Node ${process.versions.node}; each ratio is the median of rounds taken by turns in this run\n`)
const rows: Row[] = []
for (const [name, measure] of Object.entries(groups)) {
  if (wanted.length > 0 && !wanted.includes(name)) continue
  for (const row of await measure()) {
    rows.push(row)
    print(row)
  }
}
appendFileSync(
  'bench/history.jsonl',
  `${JSON.stringify({ at: new Date(), node: process.versions.node, commit: commit(), ...kept(rows) })}\n`,
)
const missed = rows.filter((row) => measured(row) > row.limit)
console.log(`\n${rows.length - missed.length} of ${rows.length} kept; added to bench/history.jsonl`)
if (missed.length > 0) process.exitCode = 1

async function ledger(): Promise<Row[]> {
  console.log('making up a year of 10,000,000 calls, which takes a minute or two')
  const { ratio, slowestMs, rows, bytes, journalBytes } = await reportRatio(10_000_000)
  console.log(`${'the slowest of nine such reports'.padEnd(60)} ${msText(slowestMs * 1e6)}, right after the other side had worked`)
  const mb = (size: number) => `${Math.round(size / 1e6).toLocaleString('en')} MB`
  console.log(
    `${'the ledger of that year'.padEnd(60)} ${rows.toLocaleString('en')} rows, ${mb(bytes)}; the journal with its index ${mb(journalBytes)}`,
  )
  return [ratio]
}

function print(row: Row): void {
  const value = measured(row)
  const verdict = value <= row.limit ? 'kept  ' : 'MISSED'
  const name = row.name.padEnd(60)
  if ('unit' in row) {
    console.log(`${name} ${rounded(value)} ${row.unit} of at most ${row.limit}  ${verdict}`)
    return
  }
  const { ourNs, baselineNs, limit } = row
  const [ours, baseline] = [ourNs, baselineNs].map((ns) => (Math.max(ourNs, baselineNs) < 1e7 ? `${Math.round(ns)} ns` : msText(ns)))
  const digits = limit < 1 ? 3 : 2
  console.log(`${name} ${value.toFixed(digits)}x of at most ${limit}x  ${verdict}  (${ours} against ${baseline})`)
}

function measured(row: Row): number {
  return 'unit' in row ? row.value : row.ratio
}

function kept(all: readonly Row[]): { ratios: Record<string, number>; missed?: string[] } {
  const ratios = Object.fromEntries(all.map((row) => [row.name, rounded(measured(row))]))
  const names = all.filter((row) => measured(row) > row.limit).map(({ name }) => name)
  return { ratios, ...(names.length > 0 && { missed: names }) }
}

function rounded(value: number): number {
  return Number(value.toPrecision(3))
}

function msText(ns: number): string {
  return `${Math.round(ns / 1e6).toLocaleString('en')} ms`
}

/** The commit that is measured, with `+` where something is changed that is not committed. */
function commit(): string {
  const git = (...args: string[]) => execFileSync('git', args, { encoding: 'utf8' }).trim()
  try {
    return git('rev-parse', '--short', 'HEAD') + (git('status', '--porcelain', '--untracked-files=no') === '' ? '' : '+')
  } catch {
    return 'unknown'
  }
}
