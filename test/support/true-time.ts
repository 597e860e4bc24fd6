/** A time that all processes of this machine agree on to the microsecond, and that goes `speed` times as fast as the real one, from `began` on: `realTime()` then. */
export function trueTime(began: number, speed: number): number {
  return began + (realTime() - began) * speed
}

/** Milliseconds since the machine was started. */
export function realTime(): number {
  return Number(process.hrtime.bigint()) / 1e6
}
