import type { decideOnFailure } from '../../core/decide/decide.js'
import type { Entry } from '../../core/ports/entry-store.js'
import type { Call } from './call.js'

type Situation = Omit<Parameters<typeof decideOnFailure>[0], 'failure'> & {
  readonly staleWhileRevalidateMs: number
  readonly refreshAheadMs: number
}

/** The facts of a call that hold before and after its upstream call. */
export function situationOf(call: Call<unknown>, entry: Entry | undefined, now: number): Situation {
  const { endpoint, directives, terms, form } = call
  const { mode, freshForMs, staleWhileRevalidateMs, staleIfErrorMs, refreshAheadMs } = endpoint
  return {
    mode,
    freshForMs,
    staleWhileRevalidateMs,
    staleIfErrorMs,
    refreshAheadMs,
    directives,
    neverStale: terms.neverStale,
    now,
    entry: entry && call.canServe(entry) ? entry : undefined,
    fallback: form.fallback !== undefined,
  }
}
