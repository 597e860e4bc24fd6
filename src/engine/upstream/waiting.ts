import type { Clock } from '../../core/ports/clock.js'
import type { Cancellation } from '../cancellation.js'

/** The work, or what its failing comes to; and at once what is given instead when it is to end. */
export function untilAborted<T>(work: () => Promise<T>, ending: Cancellation, instead: (reason: unknown) => T): Promise<T> {
  return new Promise((resolve) => {
    const aborted = () => resolve(instead(ending.reason))
    if (ending.aborted) return aborted()
    ending.onAbort(aborted)
    work().then(resolve, (error) => resolve(instead(error)))
  })
}

/** Waits so long, or until that is to end. */
export function pause(clock: Clock, ms: number, ending: Cancellation): Promise<void> {
  return new Promise((resolve) => {
    const over = () => {
      cancel()
      forget()
      resolve()
    }
    const cancel = clock.later(ms, over, true)
    const forget = ending.onAbort(over)
    if (ending.aborted) over()
  })
}

/** Of Node, where streams go on in their next tick, which comes when no promise is left to go on. */
const { nextTick } = (globalThis as { process?: { nextTick?: (then: () => void) => void } }).process ?? {}

/** Whether ticks come: tests that stand still in time may replace them by ones that do not. */
let ticks = false
nextTick?.(() => {
  ticks = true
})

const mostTicks = 10
const mostPromises = 100

/** Long enough for an answer that is there already to be read and stored, and no time at all by the clock. */
export async function aFewTurns(isOver: () => boolean): Promise<void> {
  const most = ticks ? mostTicks : mostPromises
  for (let turn = 0; turn < most && !isOver(); turn++) await (ticks && nextTick ? new Promise<void>(nextTick) : undefined)
}
