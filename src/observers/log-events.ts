import type { EventName, StashEvents } from '../core/decide/events.js'
import { errorText } from '../core/errors/error-text.js'
import type { Stash } from '../stash.js'

export type LogLevel = 'debug' | 'info' | 'warn' | 'error'

/** What is asked of a logger: `pino` and others take facts first, then words. */
export type Logger = Record<LogLevel, (facts: object, message: string) => void>

export interface LogOptions {
  /** Whether every call of the application is logged too, and every call upstream. Default false. */
  readonly calls?: boolean
  /** Whether lines of calls name the key, which says what was asked, without credentials. Default false: the endpoint. */
  readonly keys?: boolean
}

/** Writes what a stash tells of into a logger; returns an unsubscribe function. No secret stands in what is written. */
export function logEvents(stash: Pick<Stash, 'on'>, logger: Logger, { calls = false, keys = false }: LogOptions = {}): () => void {
  const names = (Object.keys(lines) as EventName[]).filter((name) => calls || (name !== 'call' && name !== 'upstream'))
  const ends = names.map((name) => listen(stash, logger, name, keys))
  return () => {
    for (const end of ends) end()
  }
}

function listen<N extends EventName>(stash: Pick<Stash, 'on'>, logger: Logger, name: N, keys: boolean): () => void {
  return stash.on(name, (event) => {
    const [level, message] = lines[name](event)
    const { key } = event as { readonly key?: string }
    const named = keys && name === 'call' && key !== undefined ? { key } : {}
    logger[level]({ event: name, ...withoutSecrets(event), ...named }, named.key === undefined ? message : `${named.key}: ${message}`)
  })
}

/** An error stands as words that hold no secret; a key may hold what callers asked, a message what the store wrote: both are left out. */
function withoutSecrets(event: object): object {
  const { error, key: _key, message: _message, ...facts } = event as { error?: unknown; key?: unknown; message?: unknown }
  return error === undefined ? facts : { ...facts, error: errorText(error) }
}

const spot = ({ provider, endpoint }: { provider: string; endpoint: string | null }) =>
  endpoint === null ? `provider ${provider}` : `${provider}.${endpoint}`

const iso = (at: Date) => at.toISOString()

const levelWords = { warn: 'nearly spent', stretch: 'stretched with older answers', stop: 'spent, nothing leaves' } as const

/** How a call was answered, and in which time. */
function callWords({ how, reason, ms }: StashEvents['call']): string {
  const time = `${ms < 10 ? ms.toFixed(1) : Math.round(ms)} ms`
  const why = reason ? ` (${reason})` : ''
  switch (how) {
    case 'hit':
      return `from store in ${time}`
    case 'stale':
      return `an older answer, from store in ${time}${why}`
    case 'collapsed':
      return `the answer of another caller's call, in ${time}`
    case 'forwarded':
    case 'passed':
      return `${fetchedFor[reason ?? ''] ?? ''}fetched in ${time}${reason && fetchedFor[reason] ? '' : why}`
    case 'abandoned':
      return `left by its caller after ${time}`
    default:
      return `${how} after ${time}${why}`
  }
}

const fetchedFor: Readonly<Record<string, string>> = {
  absent: 'not in store, ',
  'no-variant': 'not in store for these fields, ',
  expired: 'past its freshness, ',
}

/** LogLevel and words of each event. */
const lines: { readonly [N in EventName]: (event: StashEvents[N]) => readonly [LogLevel, string] } = {
  call: (event) => ['debug', `${spot(event)}: ${callWords(event)}${event.label === undefined ? '' : `, for ${event.label}`}`],
  upstream: (event) => [
    event.how === 'answered' ? 'debug' : 'info',
    `${spot(event)} upstream: ${event.how} ${event.status ?? ''}`.trimEnd(),
  ],
  stale: (event) => ['info', `${spot(event)}: an older answer was given (${event.reason})`],
  limited: (event) => [
    event.doing === 'refused' ? 'warn' : 'info',
    `${spot(event)}: ${event.doing === 'refused' ? 'a call was not let out' : 'a call waits'} (${event.limit}), ${event.retryAt ? `room again at ${iso(event.retryAt)}` : 'never to be let out'}`,
  ],
  budget: ({ provider, budget, level, spent, until }) => [
    level === 'warn' ? 'warn' : 'error',
    `provider ${provider}, ${budget}: ${levelWords[level]}, ${spent} spent, the next period begins at ${iso(until)}`,
  ],
  retry: (event) => ['info', `${spot(event)}: called again, for the ${event.attempt}. time, after ${event.afterMs} ms`],
  'hold-off': (event) => [
    'warn',
    `${spot(event)} is held off until ${iso(event.until)} after ${event.failures === 1 ? 'a failure' : `${event.failures} failures`}: ${event.what}`,
  ],
  recovered: (event) => ['info', event.what === 'store' ? 'the store works again' : `${spot(event)} answers again`],
  'store-trouble': () => ['error', 'the store is in trouble, calls go on without it'],
  'not-stored': (event) => ['debug', `${spot(event)}: an answer was not stored: ${event.why}`],
  evicted: (event) => [
    'info',
    `${spot(event)}: ${event.entries === 1 ? 'a fresh answer was' : `${event.entries} fresh answers were`} dropped to make room in the ${event.by}`,
  ],
  'corrupt-entry': (event) => ['warn', `${spot(event)}: a stored answer could not be read and was dropped`],
}
