import { numberOf, type Units } from '../money/units.js'
import { ages, Histogram, latencies } from './histogram.js'
import { countNames, type TallyCounts, type TallyData } from './tally-data.js'

/** A measured call that reuse would have answered from store, and refreshed that answer after it. */
interface WouldHit {
  readonly units: Units | undefined
  readonly isOutdated: boolean
  readonly isBilled: boolean
  readonly isRefreshed: boolean
}

/** What was counted for one endpoint in one stretch of time. Of constant size, whatever the traffic. */
export class Tally implements TallyCounts {
  hit = 0
  stale = 0
  staleByChoice = 0
  staleHeldOff = 0
  collapsed = 0
  forwarded = 0
  fallback = 0
  errored = 0
  abandoned = 0
  withheld = 0
  savedClientError = 0
  upAnswered = 0
  upUnmodified = 0
  upClientError = 0
  upRefused = 0
  upFailed = 0
  upAbandoned = 0
  upUnanswered = 0
  upServerError = 0
  changed = 0
  unchanged = 0
  corrupt = 0
  evicted = 0
  refetched = 0
  trimmed = 0
  wouldHit = 0
  wouldHitUnbilled = 0
  wouldRefresh = 0
  wouldRepeat = 0
  wouldBeOutdated = 0
  upBackground = 0
  upRepeated = 0
  moreAnswered = 0
  moreUnmodified = 0
  moreClientError = 0
  moreRefused = 0
  moreFailed = 0
  moreServerError = 0
  moreAbandoned = 0
  moreUnanswered = 0
  others = 0
  overLimit = 0
  unitsUnknown = 0
  avoidedMicros = 0
  upMicros = 0
  /** Units that upstream calls cost, and that they would have cost had every call asked been made: by name. */
  readonly units: { made: Record<string, number>; asked: Record<string, number> } = { made: {}, asked: {} }
  /** Units that the calls cost which were made for evicted answers. */
  readonly refetchedUnits: Record<string, number> = {}
  /** Units that the calls cost which reuse would have answered from store. */
  readonly wouldHitUnits: Record<string, number> = {}
  /** Answers that were not stored though their endpoint has a freshness, by why (`NotKept`). */
  readonly notStored: Record<string, number> = {}
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
    return this.hit + this.stale + this.collapsed + this.forwarded + this.fallback + this.errored + this.abandoned
  }

  /** Calls that left for the provider. */
  get upstream(): number {
    return this.upAnswered + this.upRefused + this.upFailed + this.upAbandoned
  }

  /** Whether there is anything in it to report. */
  get isUsed(): boolean {
    return this.asked + this.upstream + this.evicted > 0
  }

  merge(other: Tally): void {
    for (const name of countNames) this[name] += other[name]
    this.oldestStaleMs = Math.max(this.oldestStaleMs, other.oldestStaleMs)
    for (const kind of ['made', 'asked'] as const) this.addUnits(kind, other.units[kind])
    addTo(this.refetchedUnits, other.refetchedUnits)
    addTo(this.wouldHitUnits, other.wouldHitUnits)
    addTo(this.notStored, other.notStored)
    this.latency.merge(other.latency)
    this.upLatency.merge(other.upLatency)
    this.age.merge(other.age)
  }

  /** Counts a call made for an answer that had been evicted while it was fresh. */
  refetch(units: Units | undefined): void {
    this.refetched++
    if (units) addTo(this.refetchedUnits, units)
  }

  /** Counts a measured call that reuse would have answered from store. */
  wouldHaveHit({ units, isOutdated, isBilled, isRefreshed }: WouldHit): void {
    this.wouldHit++
    if (isOutdated) this.wouldBeOutdated++
    if (isRefreshed)
      this.wouldRefresh++ // by a call such as this
    else {
      if (!isBilled) this.wouldHitUnbilled++
      if (units) addTo(this.wouldHitUnits, units)
    }
  }

  addUnits(kind: 'made' | 'asked', units: Units | undefined): void {
    if (!units) return
    addTo(this.units[kind], units)
  }

  /** Only what is not zero, so that a stored row stays small. */
  toJSON(): TallyData {
    const counts = Object.fromEntries(countNames.filter((name) => this[name] !== 0).map((name) => [name, this[name]]))
    const hasUnits = hasAny(this.units.made) || hasAny(this.units.asked)
    const kept = {
      ...(hasUnits && { units: this.units }),
      ...(hasAny(this.refetchedUnits) && { refetchedUnits: this.refetchedUnits }),
      ...(hasAny(this.wouldHitUnits) && { wouldHitUnits: this.wouldHitUnits }),
      ...(hasAny(this.notStored) && { notStored: this.notStored }),
    }
    const [ms, upMs, ageMs] = [this.latency, this.upLatency, this.age].map((histogram) => histogram.toJSON())
    const times = { ...(ms && { ms }), ...(upMs && { upMs }), ...(ageMs && { ageMs }) }
    return { ...counts, ...(this.oldestStaleMs > 0 && { oldestStaleMs: this.oldestStaleMs }), ...kept, ...times }
  }

  /** From what `toJSON` made. */
  static from({ units, refetchedUnits, wouldHitUnits, notStored, ms, upMs, ageMs, ...counts }: TallyData): Tally {
    const tally = Object.assign(new Tally(), counts)
    if (refetchedUnits) addTo(tally.refetchedUnits, refetchedUnits)
    if (wouldHitUnits) addTo(tally.wouldHitUnits, wouldHitUnits)
    if (notStored) addTo(tally.notStored, notStored)
    if (units) for (const kind of ['made', 'asked'] as const) tally.addUnits(kind, units[kind])
    if (ms) tally.latency = new Histogram(latencies, ms)
    if (upMs) tally.upLatency = new Histogram(latencies, upMs)
    if (ageMs) tally.age = new Histogram(ages, ageMs)
    return tally
  }
}

function hasAny(sums: Readonly<Record<string, number>>): boolean {
  for (const _ in sums) return true
  return false
}

function addTo(sums: Record<string, number>, more: Readonly<Record<string, number>>): void {
  for (const name in more) if (more[name] !== 0) sums[name] = numberOf(sums, name) + (more[name] as number)
}

/** Counts how an upstream call ended: `isMore`, if no caller asked for it: it refreshes, or repeats a failed one. */
export function countEnding(tally: Tally, { how, status, isAnswered, isMore }: UpstreamEnding): void {
  const names = endingNames({ how, status, isAnswered })
  for (const name of names) tally[`up${name}`]++
  if (isMore) for (const name of names) tally[`more${name}`]++
}

interface UpstreamEnding {
  readonly how: 'answered' | 'refused' | 'failed' | 'abandoned'
  readonly status: number | undefined
  readonly isAnswered: boolean
  readonly isMore: boolean
}
type EndingName = 'Answered' | 'Unmodified' | 'ClientError' | 'Refused' | 'Failed' | 'ServerError' | 'Abandoned' | 'Unanswered'

function endingNames({
  how,
  status = 0,
  isAnswered,
}: Omit<UpstreamEnding, 'isMore' | 'status'> & { status: number | undefined }): EndingName[] {
  switch (how) {
    case 'answered':
      return status === 304 ? ['Answered', 'Unmodified'] : isClientError(status) ? ['Answered', 'ClientError'] : ['Answered']
    case 'refused':
      return ['Refused']
    case 'failed':
      return status >= 500 ? ['Failed', 'ServerError'] : ['Failed']
    case 'abandoned':
      return isAnswered ? ['Abandoned'] : ['Abandoned', 'Unanswered']
  }
}

function isClientError(status: number | undefined): boolean {
  return status !== undefined && status >= 400 && status < 500
}

/** TallyCounts a call that was answered from store, fresh, in `ms` milliseconds. */
export function countHit(
  tally: Tally,
  entry: { readonly units?: Units | undefined; readonly bornAt: number },
  now: number,
  { ms, status }: { readonly ms: number; readonly status: number | undefined },
): void {
  tally.hit++
  if (isClientError(status)) tally.savedClientError++
  if (entry.units) tally.addUnits('asked', entry.units)
  tally.latency.add(ms)
  tally.avoidedMicros += Math.round(ms * 1000)
  tally.age.add(now - entry.bornAt)
}

/** TallyCounts how long an answered upstream call took, milliseconds. */
export function countTime(tally: Tally, ms: number): void {
  tally.upLatency.add(ms)
  tally.upMicros += Math.round(ms * 1000)
}
