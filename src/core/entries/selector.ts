import { ageMs } from '../decide/decide.js'
import { UsageError } from '../errors/setup-errors.js'
import { shown } from '../errors/shown.js'
import { isSignpost } from '../http/variants.js'
import type { Claiming } from '../ports/claims.js'
import type { EntrySummary } from '../ports/entry-store.js'
import type { Selection } from '../ports/selection.js'
import { argumentKey } from '../rules/argument-key.js'
import { type Duration, durationMs } from '../time/duration.js'
import { type EntryState, entryStates, stateOf, statusOf } from './entry-state.js'
import { keyMeasuredBy } from './measured-entry.js'

/** Which stored answers are meant: those of which everything holds that is said. Nothing said means all. */
export interface EntrySelector {
  readonly provider?: string | undefined
  readonly endpoint?: string | undefined
  /** A key, or a pattern in which `*` stands for any text: `"GET https://tides.ebbline.example/*"`. */
  readonly key?: string | undefined
  /** Arguments of an operation, as a list: those of which its function was called with the same, unless it has a `keyedBy` function. */
  readonly arguments?: readonly unknown[] | undefined
  /** Whose answers: the digest of who called, as it stands in keys after `caller:`, or its first 8 characters or more. */
  readonly caller?: string | undefined
  /** A label that its answers have, as a whole. */
  readonly label?: string | undefined
  /** A status, such as 404, or a class of them, such as `"4xx"`; answers of operations have none. */
  readonly status?: number | string | undefined
  readonly state?: EntryState | undefined
  /** Of an age (RFC 9111 section 4.2.3) of more, or of less, than this. */
  readonly olderThan?: Duration | undefined
  readonly newerThan?: Duration | undefined
}

/** A selector that was checked. */
export interface Selected {
  /** What a store can be asked for: all that is meant, and more unless `isExact`. */
  readonly selection: Selection
  readonly isExact: boolean
  /** Whether it means all there is. */
  readonly isAll: boolean
  matches(entry: EntrySummary, now: number): boolean
  /** Whether it says nothing of which only an answer can be asked: not of what was measured. */
  readonly isOfAll: boolean
  /** Whether an answer may be meant that is on its way to a key. */
  mayMean(on: Omit<Claiming, 'storedAt' | 'over'>): boolean
}

const names = ['provider', 'endpoint', 'key', 'arguments', 'caller', 'label', 'status', 'state', 'olderThan', 'newerThan'] as const

/** Throws code `USAGE` where it says what nothing can be. */
export function compileSelector(selector: EntrySelector): Selected {
  if (typeof selector !== 'object' || selector === null) throw new UsageError(`a selector is ${shown(selector)}: give an object`)
  for (const name of Object.keys(selector))
    if (!(names as readonly string[]).includes(name))
      throw new UsageError(`a selector has no ${shown(name)}: ${hintFor(name) ?? `it has ${names.join(', ')}`}`)
  for (const name of ['provider', 'endpoint', 'key', 'label'] as const) {
    const value: unknown = selector[name]
    if (value !== undefined && (typeof value !== 'string' || value === '')) throw wrong(name, value, 'a text')
  }
  const { provider, endpoint, key, label, status, state, olderThan, newerThan } = selector
  if (state !== undefined && !entryStates.includes(state)) throw wrong('state', state, 'fresh, stale or invalidated')
  const isStatus = statusTest(status)
  const older = msOf('olderThan', olderThan)
  const newer = msOf('newerThan', newerThan)
  const keyTests = [...(key === undefined ? [] : [keyTest(key)]), ...(selector.caller === undefined ? [] : [callerTest(selector.caller)])]
  const isOfArguments = selector.arguments === undefined ? undefined : argumentsTest(selector.arguments)
  const mayMean: Selected['mayMean'] = (on) =>
    (label === undefined || on.labels === null || on.labels?.includes(label) === true) &&
    (provider === undefined || on.provider === provider) &&
    (endpoint === undefined || on.endpoint === endpoint) &&
    keyTests.every((isMeant) => isMeant(on.key)) &&
    (isOfArguments === undefined || isOfArguments(on))
  const isOther = [status, state, olderThan, newerThan].some((one) => one !== undefined)
  const isOneKey = key !== undefined && !key.includes('*')
  const isStored =
    keyTests.length === 0 &&
    isOfArguments === undefined &&
    (label === undefined ? endpoint === undefined || provider !== undefined : isAlone(selector, 'label'))
  return {
    selection: selectionOf(selector, isOneKey),
    isExact: !isOther && (isStored || (isOneKey && isAlone(selector, 'key'))),
    isOfAll: !isOther,
    isAll: names.every((name) => selector[name] === undefined),
    mayMean,
    matches: (entry, now) =>
      isAnswer(entry) &&
      mayMean(entry) &&
      (isStatus === undefined || isStatus(statusOf(entry.head))) &&
      (state === undefined || stateOf(entry, now) === state) &&
      (older === undefined || ageMs(entry, now) > older) &&
      (newer === undefined || ageMs(entry, now) < newer),
  }
}

/** Whether an entry is an answer: others say where answers are, or what was measured. */
export function isAnswer({ key, head }: Pick<EntrySummary, 'key' | 'head'>): boolean {
  return !isSignpost(head) && keyMeasuredBy(key) === undefined
}

/** Whether nothing of what is stored is selected by but this. */
function isAlone(selector: EntrySelector, name: 'key' | 'label'): boolean {
  return (['provider', 'endpoint', 'key', 'arguments', 'caller', 'label'] as const).every(
    (one) => one === name || selector[one] === undefined,
  )
}

function selectionOf({ provider, endpoint, key, label }: EntrySelector, isOneKey: boolean): Selection {
  if (isOneKey) return { key: key as string }
  if (label !== undefined) return { label }
  if (provider === undefined) return { all: true }
  return endpoint === undefined ? { provider } : { provider, endpoint }
}

/** Text by text: no pattern takes longer than its key is long, many times. */
function keyTest(pattern: string): (key: string) => boolean {
  const [first = '', ...rest] = pattern.split('*')
  if (rest.length === 0) return (key) => key === pattern
  const last = rest.at(-1) as string
  return (key) => {
    if (!key.startsWith(first) || !key.endsWith(last) || key.length < first.length + last.length) return false
    let at = first.length
    for (const part of rest.slice(0, -1)) {
      const found = key.indexOf(part, at)
      if (found < 0) return false
      at = found + part.length
    }
    return at <= key.length - last.length
  }
}

function callerTest(caller: unknown): (key: string) => boolean {
  if (typeof caller !== 'string' || !/^[0-9a-f]{8,64}$/.test(caller))
    throw wrong('caller', caller, 'the digest that stands in keys after "caller:", or its first 8 characters or more')
  return (key) => key.includes(` caller:${caller}`)
}

function argumentsTest(args: unknown): (on: { readonly key: string; readonly provider: string; readonly endpoint: string }) => boolean {
  if (!Array.isArray(args)) throw wrong('arguments', args, 'a list')
  const text = argumentKey({ provider: 'a', name: 'selector', prefix: '' }, args)
  return ({ key, provider, endpoint }) => {
    const name = `${provider}.${endpoint}`
    return key.startsWith(name) && key.slice(name.length).replace(/^@-?\d+/, '') === text // which may have a version before it
  }
}

function statusTest(status: unknown): ((status: number | null) => boolean) | undefined {
  if (status === undefined) return undefined
  const text = String(status).toLowerCase()
  if (/^[1-5]xx$/.test(text)) return (one) => one !== null && Math.floor(one / 100) === Number(text[0])
  if (/^[1-9]\d\d$/.test(text)) return (one) => one === Number(text)
  throw wrong('status', status, 'a status such as 404, or a class such as "4xx"')
}

function msOf(name: string, value: Duration | undefined): number | undefined {
  if (value === undefined) return undefined
  const ms = durationMs(value)
  if (ms === undefined) throw wrong(name, value, 'a duration such as "2 hours"')
  return ms
}

function wrong(name: string, value: unknown, right: string): UsageError {
  return new UsageError(`"${name}" of a selector is ${shown(value)}: give ${right}`)
}

/** Where something belongs that is no part of a selector, but goes with one. */
function hintFor(name: string): string | undefined {
  return name === 'everything' || name === 'dryRun' ? `it is an option besides, as in invalidate({}, { ${name}: true })` : undefined
}
