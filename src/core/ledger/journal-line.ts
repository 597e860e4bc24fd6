import type { StashEvents } from '../decide/events.js'

/**
 * A line of the journal. `call`: a call of the application was answered; `upstream`: a call left for a provider and has ended; `lost`: so many
 * lines could not be written. `at` is when it ended, ISO 8601; `ms` how long it took. No credentials stand in any.
 */
export type JournalLine =
  | ({ readonly is: 'call'; readonly at: string } & Pick<
      StashEvents['call'],
      'provider' | 'endpoint' | 'mode' | 'key' | 'how' | 'reason' | 'ms' | 'label'
    >)
  | ({ readonly is: 'upstream'; readonly at: string } & Pick<
      StashEvents['upstream'],
      'provider' | 'endpoint' | 'mode' | 'key' | 'how' | 'status' | 'ms' | 'attempt' | 'inBackground' | 'units' | 'label'
    >)
  | { readonly is: 'lost'; readonly at: string; readonly lines: number }

/** The line of a call that was answered at `now`. */
export function callLine({ provider, endpoint, mode, key, how, reason, ms, label }: StashEvents['call'], now: number): JournalLine {
  return { is: 'call', at: new Date(now).toISOString(), provider, endpoint, mode, key, how, reason, ms: rounded(ms), label }
}

/** The line of an upstream call that ended at `now`. */
export function upstreamLine(event: StashEvents['upstream'], now: number): JournalLine {
  const { provider, endpoint, mode, key, how, status, ms, attempt, inBackground, units, label } = event
  return {
    is: 'upstream',
    at: new Date(now).toISOString(),
    provider,
    endpoint,
    mode,
    key,
    how,
    status,
    ms: rounded(ms),
    attempt,
    inBackground,
    units,
    label,
  }
}

/** Reads a line; undefined where it is none, such as one that was cut off in the middle. */
export function parseLine(text: string): JournalLine | undefined {
  try {
    const line = JSON.parse(text) as Partial<JournalLine> | null
    const known = line?.is === 'call' || line?.is === 'upstream' || line?.is === 'lost'
    return known && typeof line.at === 'string' && !Number.isNaN(Date.parse(line.at)) ? (line as JournalLine) : undefined
  } catch {
    return undefined
  }
}

function rounded(ms: number): number {
  return Math.round(ms * 1000) / 1000
}
