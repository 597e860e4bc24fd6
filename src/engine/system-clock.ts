import type { Clock } from '../core/ports/clock.js'

/** The system's time. Its timers never keep a Node process alive. */
export const systemClock: Clock = {
  now: () => Date.now(),
  ticks: () => performance.now(),
  later(afterMs, run) {
    const timer: unknown = setTimeout(run, afterMs)
    if (typeof timer === 'object' && timer !== null && 'unref' in timer && typeof timer.unref === 'function') timer.unref()
    return () => clearTimeout(timer as number)
  },
}
