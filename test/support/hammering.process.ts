/**
 * One of several processes that hammer a provider through a store, in a time that goes `speed` times as fast as the real one, from `began` on; its own clock is ahead
 * by `aheadMs`, that of the store's server is not. It ends when its standard input does.
 */
import { trueTime } from './true-time.js'

const [place = '', base = '', speedText = '1', beganText = '0', aheadText = '0'] = process.argv.slice(2)
const [speed, began, aheadMs] = [speedText, beganText, aheadText].map(Number) as [number, number, number]
const realTicks = performance.now.bind(performance)
const { setTimeout: realTimeout } = globalThis
const trueNow = () => trueTime(began, speed)
Date.now = () => Math.floor(trueNow() + aheadMs)
performance.now = () => realTicks() * speed
globalThis.setTimeout = ((run: () => void, ms = 0, ...rest: []) => realTimeout(run, ms / speed, ...rest)) as typeof setTimeout

const { openStash } = await import('stashen')
const { storeNamed } = await import('./two-processes.js')
const { hammered } = await import('./hammered.js')
const store = storeNamed(place)
const stash = await openStash({
  store: {
    ...store,
    async time() {
      const asked = trueNow()
      await store.time?.()
      return (asked + trueNow()) / 2
    },
  },
  ...{ storeTimeout: '2 minutes', closeWithin: '1 s', warn: (message) => process.stderr.write(`${message}\n`) },
  providers: hammered(base),
})
let isOver = false
const over = new Promise<void>((resolve) => {
  process.stdin.resume().on('end', () => {
    isOver = true
    resolve()
  })
})
let number = 0

/** Calls again and again; what is refused is counted. */
async function hammer(provider: string, pauseMs: number): Promise<void> {
  while (!isOver) {
    try {
      await (await stash.fetch(`${base}/${provider}/${process.pid}-${number++}`)).text()
    } catch (error) {
      const { code = String(error) } = error as { code?: string }
      refused[code] = (refused[code] ?? 0) + 1
      await new Promise((resolve) => setTimeout(resolve, 1_000))
    }
    if (pauseMs > 0) await new Promise((resolve) => setTimeout(resolve, pauseMs))
  }
}

const refused: Record<string, number> = {}
const hammering = [...Array.from({ length: 6 }, () => hammer('tides', 0)), hammer('quotes', 5_000)]
await Promise.race([over, Promise.all(hammering)])
const budgets = (await stash.status()).providers.flatMap((one) => one.budgets.map(({ spent }) => spent))
process.stdout.write(`${JSON.stringify({ refused, budgets })}\n`)
process.exit()
