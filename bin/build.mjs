// Compiles and bundles. On a terminal it says how far that is, and how long the rest takes.
import { spawn } from 'node:child_process'
import { once } from 'node:events'
import { SingleBar } from 'cli-progress'

const tsc = 'node_modules/typescript/bin/tsc'
/** What is done, one after the other, and about which share of the time each takes, on any machine. */
const steps = [
  { run: () => compiled('src/stores/indexeddb/tsconfig.json'), share: 0.1 },
  { run: () => compiled('tsconfig.json'), share: 0.76 },
  { run: () => import('./bundle.mjs').then(() => true), share: 0.14 },
]

async function compiled(project) {
  const [code] = await once(spawn(process.execPath, [tsc, '-p', project], { stdio: 'inherit' }), 'exit')
  return code === 0
}

const began = performance.now()
let [done, doneMs] = [0, 0]
const bar = process.stderr.isTTY
  ? new SingleBar({
      clearOnComplete: true,
      hideCursor: false,
      linewrap: true,
      gracefulExit: false,
      format: 'compiling {bar} {text}',
      barsize: 24,
    })
  : undefined
bar?.start(1_000, 0, { text: '' })
const timer = setInterval(() => {
  if (!bar || done === 0) return
  const [wholeMs, passedMs] = [doneMs / done, performance.now() - began]
  const left = Math.max(1, Math.ceil((wholeMs - passedMs) / 1_000))
  bar.update(Math.min(990, Math.round((1_000 * passedMs) / wholeMs)), { text: `about ${left} s left` })
}, 200)

for (const { run, share } of steps) {
  if (!(await run())) {
    process.exitCode = 1
    break
  }
  done += share
  doneMs = performance.now() - began
}
clearInterval(timer)
bar?.stop()
