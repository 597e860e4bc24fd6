import { durationMs } from '../time/duration.js'
import { isReusable, type SeenCall } from './seen-call.js'

/** The lifetimes that are tried on what was seen. */
export const triedLifetimes = ['10 s', '1 min', '1 h', '1 day'] as const

/** What reuse for some lifetime would have saved. */
export interface WhatIf {
  readonly lifetime: string
  /** Calls that would not have left. */
  readonly saved: number
  /** Milliseconds that their callers waited for them. */
  readonly savedMs: number
  /** Those of them whose caller would have got another answer than the API gave. */
  readonly outdated: number
}

/** Plays calls, in the order in which they left, as if answers were reused for a lifetime. Callers who ask while a call is under way share it. */
export function whatIf(calls: readonly SeenCall[], lifetime: string): WhatIf {
  const lifetimeMs = durationMs(lifetime) ?? 0
  const stored = new Map<string, { readonly freshUntil: number; readonly answer: string | undefined }>()
  let [saved, savedMs, outdated] = [0, 0, 0]
  for (const call of calls) {
    const { key, at, ms, answer } = call
    const known = stored.get(key)
    if (known && at < known.freshUntil) {
      saved++
      savedMs += ms
      if (answer !== undefined && answer !== known.answer) outdated++
    } else if (isReusable(call)) stored.set(key, { freshUntil: at + ms + lifetimeMs, answer })
  }
  return { lifetime, saved, savedMs, outdated }
}

/**
 * The longest of the tried lifetimes that would have saved calls and given nobody an answer out of date, of those that were watched for as long; undefined
 * where there is none.
 */
export function fittingLifetime(all: readonly WhatIf[], watchedMs: number): WhatIf | undefined {
  return all.findLast(
    ({ lifetime, saved, outdated }, i) => saved > 0 && outdated === 0 && (i === 0 || (durationMs(lifetime) ?? 0) <= watchedMs),
  )
}
