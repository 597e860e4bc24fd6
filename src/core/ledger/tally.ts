import type { Units } from '../rules/units.js'
import { ages, Histogram, latencies } from './histogram.js'

/**
 * What is counted. The first six say how a call of the application ended and add up to the calls asked; the `up...`
 * ones say how a call to the provider ended, and answered, refused and failed ones add up to the upstream calls; the next two compare a refreshed answer with the
 * one it took the place of.
 */
const countNames = [
  /** answered from store, fresh */
  'hit',
  /** answered from store, past its freshness */
  'stale',
  /** answered by an upstream call that another caller had begun */
  'collapsed',
  /** answered by an upstream call of its own */
  'forwarded',
  /** answered by the endpoint's default, for the upstream failed */
  'fallback',
  /** ended in an error, a refusal (429) or a server error (5xx) */
  'errored',
  'upAnswered',
  /** of these, 304: the stored answer still holds */
  'upUnmodified',
  /** of the answered, 4xx but 429 */
  'upClientError',
  'upRefused',
  'upFailed',
  /** of the failed, those with an answer, 5xx */
  'upServerError',
  'changed',
  'unchanged',
  /** stored answers that could not be read, and were dropped */
  'corrupt',
  /** calls while measuring that reuse would have answered from store */
  'wouldHit',
  /** of the upstream calls, those that nobody waited for, and those that repeated a failed one */
  'upBackground',
  'upRepeated',
  /** calls that others made with the same key, by what the provider says is left of its quota */
  'others',
  /** calls asked that limits would have refused had all gone upstream, as far as that is settled */
  'overLimit',
  /** how long callers waited who were answered from store or by another's call, and how long answered upstream calls took: microseconds */
  'avoidedMicros',
  'upMicros',
] as const

type CountName = (typeof countNames)[number]
type Counts = Record<CountName, number>

/** What was counted for one endpoint in one stretch of time. Of constant size, whatever the traffic. */
export class Tally implements Counts {
  hit = 0
  stale = 0
  collapsed = 0
  forwarded = 0
  fallback = 0
  errored = 0
  upAnswered = 0
  upUnmodified = 0
  upClientError = 0
  upRefused = 0
  upFailed = 0
  upServerError = 0
  changed = 0
  unchanged = 0
  corrupt = 0
  wouldHit = 0
  upBackground = 0
  upRepeated = 0
  others = 0
  overLimit = 0
  avoidedMicros = 0
  upMicros = 0
  /** Units that upstream calls cost, and that they would have cost had every call asked been made: by name. */
  readonly units: { made: Record<string, number>; asked: Record<string, number> } = { made: {}, asked: {} }
  /** How old the oldest answer past its freshness was that was given out, milliseconds. */
  oldestStaleMs = 0
  /** How long each caller waited. */
  latency: Histogram
  /** How long each answered upstream call took. */
  upLatency: Histogram
  /** How old each answer was that was given from store. */
  age: Histogram

  /** `addsUp`: many are to be merged into it. */
  constructor(addsUp = false) {
    this.latency = new Histogram(latencies, '', addsUp)
    this.upLatency = new Histogram(latencies, '', addsUp)
    this.age = new Histogram(ages, '', addsUp)
  }

  /** Calls of the application. */
  get asked(): number {
    return this.hit + this.stale + this.collapsed + this.forwarded + this.fallback + this.errored
  }

  /** Calls that left for the provider. */
  get upstream(): number {
    return this.upAnswered + this.upRefused + this.upFailed
  }

  merge(other: Tally): void {
    for (const name of countNames) this[name] += other[name]
    this.oldestStaleMs = Math.max(this.oldestStaleMs, other.oldestStaleMs)
    for (const kind of ['made', 'asked'] as const) this.addUnits(kind, other.units[kind])
    this.latency.merge(other.latency)
    this.upLatency.merge(other.upLatency)
    this.age.merge(other.age)
  }

  addUnits(kind: 'made' | 'asked', units: Units | undefined): void {
    if (!units) return
    const sums = this.units[kind]
    for (const name in units) sums[name] = (sums[name] ?? 0) + (units[name] as number)
  }

  /** Only what is not zero, so that a stored row stays small. */
  toJSON(): object {
    const counts = Object.fromEntries(countNames.filter((name) => this[name] !== 0).map((name) => [name, this[name]]))
    const hasUnits = Object.keys(this.units.made).length + Object.keys(this.units.asked).length > 0
    const kept = hasUnits ? { units: this.units } : {}
    const [ms, upMs, ageMs] = [this.latency, this.upLatency, this.age].map((histogram) => histogram.toJSON())
    const times = { ...(ms && { ms }), ...(upMs && { upMs }), ...(ageMs && { ageMs }) }
    return { ...counts, ...(this.oldestStaleMs > 0 && { oldestStaleMs: this.oldestStaleMs }), ...kept, ...times }
  }

  /** From what `toJSON` made. */
  static from({ units, ms, upMs, ageMs, ...counts }: StoredTally): Tally {
    const tally = Object.assign(new Tally(), counts)
    if (units) for (const kind of ['made', 'asked'] as const) tally.addUnits(kind, units[kind])
    if (ms) tally.latency = new Histogram(latencies, ms)
    if (upMs) tally.upLatency = new Histogram(latencies, upMs)
    if (ageMs) tally.age = new Histogram(ages, ageMs)
    return tally
  }
}

/** A tally as JSON. */
export interface StoredTally extends Partial<Counts> {
  readonly oldestStaleMs?: number
  readonly units?: Tally['units']
  readonly ms?: string
  readonly upMs?: string
  readonly ageMs?: string
}

/** Counts what an upstream call's status says of how it ended. */
export function countStatus(tally: Tally, how: 'answered' | 'refused' | 'failed', status: number | undefined): void {
  if (status === undefined) return
  if (how === 'answered' && status === 304) tally.upUnmodified++
  if (how === 'answered' && status >= 400) tally.upClientError++
  if (how === 'failed' && status >= 500) tally.upServerError++
}

/** Counts a call that was answered from store, fresh, in `ms` milliseconds. */
export function countHit(
  tally: Tally,
  entry: { readonly units?: Units | undefined; readonly bornAt: number },
  now: number,
  ms: number,
): void {
  tally.hit++
  if (entry.units) tally.addUnits('asked', entry.units)
  tally.latency.add(ms)
  tally.avoidedMicros += Math.round(ms * 1000)
  tally.age.add(now - entry.bornAt)
}

/** Counts how long an answered upstream call took, milliseconds. */
export function countTime(tally: Tally, ms: number): void {
  tally.upLatency.add(ms)
  tally.upMicros += Math.round(ms * 1000)
}
