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

/**
 * Of Node, where streams go on in their next tick, which comes when no promise is left to go on, and a store may write at the end of a turn of the event
 * loop. Tests that stand still in time may replace them by ones that do not come.
 */
const { process, setImmediate: immediate } = globalThis as {
  process?: { nextTick?: (then: () => void) => void }
  setImmediate?: (then: () => void) => { unref(): void }
}
const nextTick = process?.nextTick
let [ticks, immediates] = [false, false]
nextTick?.(() => {
  ticks = true
})
immediate?.(() => {
  immediates = true
}).unref()

const mostTicks = 10
const mostPromises = 100

/**
 * Long enough for an answer that is there already to be read and stored, and no time at all by the clock. `isRead`: whether it only has to be
 * stored.
 */
export async function aFewTurns(isOver: () => boolean, isRead: () => boolean): Promise<void> {
  const most = ticks ? mostTicks : mostPromises
  for (let turn = 0; turn < most && !isOver() && !(immediates && isRead()); turn++)
    await (ticks && nextTick ? new Promise<void>(nextTick) : undefined)
  if (immediates && immediate && !isOver() && isRead()) await new Promise<void>(immediate)
}
