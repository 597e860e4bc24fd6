import type { Clock } from '../core/ports/clock.js'
import { systemClock } from './system-clock.js'

/** How long calls that wait for nothing may go on before others get a turn, milliseconds of real time. */
const longestMs = 5

/** When calls were seen first in this turn of the event loop. */
let since: number | undefined
let turn: Promise<void> | undefined

/**
 * What a call that needs to wait for nothing waits for all the same, once such calls have kept timers and input waiting for too long: the next turn
 * of the event loop. A loop of hits awaits nothing but promises that are settled, and nothing else would ever run. Where another clock is handed in,
 * that says what runs when.
 */
export function lateTurn(clock: Clock): Promise<void> | undefined {
  if (clock !== systemClock) return undefined
  const now = performance.now()
  if (since === undefined) {
    since = now
    turn = undefined
    nextTurn(() => {
      since = undefined
    })
    return undefined
  }
  if (now - since < longestMs) return undefined
  turn ??= new Promise((resolve) => nextTurn(resolve))
  return turn
}

/** Not that of a test which has replaced timers. */
const { setImmediate: immediate, setTimeout: timer } = globalThis

function nextTurn(run: () => void): void {
  if (typeof immediate === 'function') immediate(run)
  else timer(run, 0)
}
