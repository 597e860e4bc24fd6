import { upstreamCallsOf } from './collapse.js'
import { hitRatios } from './hits.js'
import { keyRatio, matchingRatio } from './matching.js'

/** Prints every figure that the project promises of its speed, and whether it is kept. */
console.log(`Node ${process.versions.node}; each ratio is the median of 101 rounds, taken by turns in this run\n`)
for (const { name, ourNs, baselineNs, ratio, limit } of [...(await hitRatios()), await matchingRatio(), await keyRatio()]) {
  const times = `${Math.round(ourNs)} ns against ${Math.round(baselineNs)} ns`
  console.log(`${name.padEnd(40)} ${ratio.toFixed(2)}x of at most ${limit}x  ${ratio <= limit ? 'kept  ' : 'MISSED'}  (${times})`)
}
const askers = 10_000
const calls = await upstreamCallsOf(askers)
console.log(`${'simultaneous identical calls'.padEnd(40)} ${askers} askers, ${calls} upstream call${calls === 1 ? '  kept' : 's  MISSED'}`)
