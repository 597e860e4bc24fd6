import { upstreamCallsOf } from './collapse.js'
import type { Ratio } from './compare.js'
import { firstChunkRatios } from './first-chunk.js'
import { hitRatios } from './hits.js'
import { recordingRatio, reportRatio } from './ledger.js'
import { keyRatio, matchingRatio } from './matching.js'

/** Prints every figure that the project promises of its speed, and whether it is kept. */
console.log(`Node ${process.versions.node}; each ratio is the median of 101 rounds, taken by turns in this run\n`)
for (const ratio of [...(await hitRatios()), await matchingRatio(), await keyRatio(), await recordingRatio()]) print(ratio)
for (const upstreamMs of [20, 0]) for (const ratio of await firstChunkRatios(upstreamMs)) print(ratio)
const askers = 10_000
const calls = await upstreamCallsOf(askers)
console.log(`${'simultaneous identical calls'.padEnd(48)} ${askers} askers, ${calls} upstream call${calls === 1 ? '  kept' : 's  MISSED'}`)
console.log('\nmaking up a year of 10,000,000 calls, which takes a minute or two')
const { ratio, slowestMs, rows, bytes, journalBytes } = await reportRatio(10_000_000)
print(ratio)
console.log(`${'the slowest of nine such reports'.padEnd(48)} ${msText(slowestMs * 1e6)}, right after the other side had worked`)
const mb = (size: number) => `${Math.round(size / 1e6).toLocaleString('en')} MB`
console.log(
  `${'the ledger of that year'.padEnd(48)} ${rows.toLocaleString('en')} rows, ${mb(bytes)}; the journal with its index ${mb(journalBytes)}`,
)

function print({ name, ourNs, baselineNs, ratio, limit }: Ratio): void {
  const [ours, baseline] = ourNs < 1e6 ? [`${Math.round(ourNs)} ns`, `${Math.round(baselineNs)} ns`] : [msText(ourNs), msText(baselineNs)]
  const digits = limit < 1 ? 3 : 2
  console.log(
    `${name.padEnd(48)} ${ratio.toFixed(digits)}x of at most ${limit}x  ${ratio <= limit ? 'kept  ' : 'MISSED'}  (${ours} against ${baseline})`,
  )
}

function msText(ns: number): string {
  return `${Math.round(ns / 1e6).toLocaleString('en')} ms`
}
