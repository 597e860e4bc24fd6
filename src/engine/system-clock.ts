import type { Clock } from '../core/ports/clock.js'

/** What timers can wait at the most (HTML Standard, and Node): about 25 days. More would fire at once. */
const longestTimer = 2 ** 31 - 1

/** The system's time. */
export const systemClock: Clock = {
  now: () => Date.now(),
  ticks: () => performance.now(),
  later(afterMs, run, keepsAlive = false) {
    if (afterMs <= 0 && keepsAlive && typeof setImmediate === 'function') {
      const turn = setImmediate(run) // a timer would wait a millisecond
      return () => clearImmediate(turn)
    }
    const timer: unknown = setTimeout(run, Math.min(afterMs, longestTimer))
    if (!keepsAlive && typeof timer === 'object' && timer !== null && 'unref' in timer && typeof timer.unref === 'function') timer.unref()
    return () => clearTimeout(timer as number)
  },
}

/** By what long works let others come between: by the system's time, or, where another clock is handed in, by none. */
export function turnsBy(clock: Clock): Pick<Clock, 'later' | 'ticks'> {
  return clock === systemClock ? clock : noTurns
}

const noTurns: Pick<Clock, 'later' | 'ticks'> = {
  ticks: () => 0,
  later(_afterMs, run) {
    void Promise.resolve().then(run)
    return () => {}
  },
}
