import type { FoundIn } from '../decide/layer.js'
import type { Units } from '../money/units.js'
import type { Histogram } from './histogram.js'
import { hasAny, noSums, sumsWith } from './sums.js'
import { countNames, type TallyCounts, type TallyData, withoutTimes } from './tally-data.js'
import { TallyTimes } from './tally-times.js'

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
  near = 0
  far = 0
  reread = 0
  collapsed = 0
  forwarded = 0
  first = 0
  firstMicros = 0
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
  readonly units = { made: noSums, asked: noSums }
  /** Units that the calls cost which were made for evicted answers. */
  refetchedUnits = noSums
  /** Units that the calls cost which reuse would have answered from store. */
  wouldHitUnits = noSums
  /** Answers that were not stored though their endpoint has a freshness, by why (`NotKept`). */
  notStored = noSums
  /** What was counted of it apart, by whose calls these were. */
  #parts: Map<string, Tally> | undefined
  /** How old the oldest answer past its freshness was that was given out, milliseconds. */
  oldestStaleMs = 0
  readonly #times: TallyTimes

  /** `addsUp`: many are to be merged into it. */
  constructor(addsUp = false) {
    this.#times = new TallyTimes(addsUp)
  }

  /** How long each caller waited. */
  get latency(): Histogram {
    return this.#times.of('ms')
  }

  /** How long each answered upstream call took. */
  get upLatency(): Histogram {
    return this.#times.of('upMs')
  }

  /** How old each answer was that was given from store. */
  get age(): Histogram {
    return this.#times.of('ageMs')
  }

  /** How old stored answers were when they were compared with new ones, and differed. */
  get changedAge(): Histogram {
    return this.#times.of('changedMs')
  }

  /** And did not differ. */
  get unchangedAge(): Histogram {
    return this.#times.of('unchangedMs')
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

  /** What was counted apart, by whose calls these were. */
  get parts(): ReadonlyMap<string, Tally> {
    return this.#parts ?? noParts
  }

  /** Counts in it, and apart where it is known whose call it is. */
  count(countedFor: string | undefined, how: (tally: Tally) => void): void {
    how(this)
    if (countedFor !== undefined) how(this.#part(countedFor))
  }

  /** What was counted of nobody in particular. */
  rest(): Tally {
    const rest = new Tally()
    for (const name of countNames) rest[name] = this[name]
    for (const kind of ['made', 'asked'] as const) rest.addUnits(kind, this.units[kind])
    for (const part of this.parts.values()) {
      for (const name of countNames) rest[name] -= part[name]
      for (const kind of ['made', 'asked'] as const) rest.units[kind] = sumsWith(rest.units[kind], part.units[kind], -1)
    }
    return rest
  }

  #part(countedFor: string): Tally {
    this.#parts ??= new Map()
    const name = this.#parts.has(countedFor) || this.#parts.size < mostParts ? countedFor : allOthers
    const part = this.#parts.get(name) ?? new Tally()
    this.#parts.set(name, part)
    return part
  }

  merge(other: Tally): void {
    for (const name of countNames) {
      const count = other[name]
      if (count !== 0) this[name] += count // most are
    }
    this.oldestStaleMs = Math.max(this.oldestStaleMs, other.oldestStaleMs)
    for (const kind of ['made', 'asked'] as const) this.addUnits(kind, other.units[kind])
    this.refetchedUnits = sumsWith(this.refetchedUnits, other.refetchedUnits)
    this.wouldHitUnits = sumsWith(this.wouldHitUnits, other.wouldHitUnits)
    this.notStored = sumsWith(this.notStored, other.notStored)
    this.#times.merge(other.#times)
    for (const [name, part] of other.parts) this.#part(name).merge(part)
  }

  /** Counts a call made for an answer that had been evicted while it was fresh. */
  refetch(units: Units | undefined): void {
    this.refetched++
    if (units) this.refetchedUnits = sumsWith(this.refetchedUnits, units)
  }

  /** Counts which layer of its store an answer came from. */
  countLayer({ layer, reread }: FoundIn): void {
    this[layer]++
    if (reread) this.reread++
  }

  /** A stored answer of this age was compared with a new one. */
  compared(ageMs: number, isChanged: boolean): void {
    ;(isChanged ? this.changedAge : this.unchangedAge).add(Math.max(0, ageMs))
  }

  /** Counts a measured call that reuse would have answered from store. */
  wouldHaveHit({ units, isOutdated, isBilled, isRefreshed }: WouldHit): void {
    this.wouldHit++
    if (isOutdated) this.wouldBeOutdated++
    if (isRefreshed)
      this.wouldRefresh++ // by a call such as this
    else {
      if (!isBilled) this.wouldHitUnbilled++
      if (units) this.wouldHitUnits = sumsWith(this.wouldHitUnits, units)
    }
  }

  addUnits(kind: 'made' | 'asked', units: Units | undefined): void {
    if (!units) return
    this.units[kind] = sumsWith(this.units[kind], units)
  }

  /** An answer was not stored, and why (`NotKept`). */
  countNotStored(why: string): void {
    this.notStored = sumsWith(this.notStored, { [why]: 1 })
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
      ...(this.#parts && { parts: Object.fromEntries([...this.#parts].map(([name, part]) => [name, withoutTimes(part.toJSON())])) }),
    }
    return { ...counts, ...(this.oldestStaleMs > 0 && { oldestStaleMs: this.oldestStaleMs }), ...kept, ...this.#times.toJSON() }
  }

  /** From what `toJSON` made. */
  static from(data: TallyData): Tally {
    const { units, refetchedUnits, wouldHitUnits, notStored, parts = {} } = data
    const tally = new Tally()
    for (const name of countNames) tally[name] = data[name] ?? 0
    tally.oldestStaleMs = data.oldestStaleMs ?? 0
    if (refetchedUnits) tally.refetchedUnits = sumsWith(noSums, refetchedUnits)
    if (wouldHitUnits) tally.wouldHitUnits = sumsWith(noSums, wouldHitUnits)
    if (notStored) tally.notStored = sumsWith(noSums, notStored)
    if (units) for (const kind of ['made', 'asked'] as const) tally.addUnits(kind, units[kind])
    for (const [name, part] of Object.entries(parts)) tally.#part(name).merge(Tally.from(part))
    tally.#times.read(data)
    return tally
  }
}

const noParts: ReadonlyMap<string, Tally> = new Map()

/** How many are counted apart in one tally, at the most, and where all others are. */
const mostParts = 100
const allOthers = '(others)'
