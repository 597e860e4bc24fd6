import { type ClockChange, moved } from './clock-change.js'
import { mapValues, type ProviderState } from './provider-state.js'

/** How long the queue of a process that is not heard of counts, milliseconds. */
const countsForMs = 60_000

/** Notes how many calls wait in a process. */
export function withQueue(state: ProviderState, process: string, waiting: number, at: number): ProviderState {
  const others = Object.entries(state.queues).filter(([name, queue]) => name !== process && at - queue.at < countsForMs)
  return { ...state, queues: Object.fromEntries([...others, ...(waiting > 0 ? [[process, { waiting, at }] as const] : [])]) }
}

/** How many calls wait in all processes. */
export function waitingIn({ queues }: ProviderState, now: number): number {
  return Object.values(queues).reduce((sum, { waiting, at }) => sum + (now - at < countsForMs ? waiting : 0), 0)
}

export function withClockSetBack(state: ProviderState, change: ClockChange): ProviderState {
  return { ...state, queues: mapValues(state.queues, ({ waiting, at }) => ({ waiting, at: moved(at, change) })) }
}
