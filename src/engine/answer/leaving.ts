import { CallOverdueError } from '../../core/errors/call-errors.js'
import type { Clock } from '../../core/ports/clock.js'
import type { Caller } from './calls-in-flight.js'

/** When a caller has to leave: when its signal aborts, or when its time is over. */
export function leavingOf({ call, deadline }: Caller<unknown>, clock: Clock): { readonly signal: AbortSignal | undefined; over(): void } {
  const { signal, withinMs = 0 } = call.terms
  if (deadline === undefined) return { signal, over: noop }
  const leaving = new AbortController()
  const { provider, name } = call.endpoint
  const aborted = () => leaving.abort(signal?.reason)
  signal?.addEventListener('abort', aborted, { once: true })
  const overdue = () => leaving.abort(new CallOverdueError(provider, name, withinMs))
  const cancel = clock.later(Math.max(0, deadline - clock.ticks()), overdue, true)
  return {
    signal: leaving.signal,
    over() {
      cancel()
      signal?.removeEventListener('abort', aborted)
    },
  }
}

function noop(): void {}
