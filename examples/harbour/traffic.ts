import { Chance } from './random.js'
import { type HarbourRequest, requests } from './requests.js'
import { dayOf, dayStart, hour, minute, vessels } from './world.js'

/** One call of the demo day. */
export interface TrafficCall {
  /** Milliseconds since 1970-01-01T00:00Z; no two calls leave in the same millisecond. */
  readonly at: number
  /** Which of the two web processes makes it. */
  readonly process: 0 | 1
  readonly request: HarbourRequest
}

/** Every call of the demo day in order of time, from `since` on up to `until`; the same seed gives the same day. */
export function trafficOfDay(seed: number, until = Number.POSITIVE_INFINITY, since = dayStart): TrafficCall[] {
  const random = new Chance(seed, 'traffic')
  const calls = [...boardPolls(), ...skippers(random), ...staff(random), ...nightlyBatch()].sort((a, b) => a.at - b.at)
  let last = 0
  const all = calls.map((call) => {
    last = Math.max(Math.round(call.at), last + 1)
    return { ...call, at: last }
  })
  return all.filter(({ at }) => at >= since && at < until)
}

const onBoard = vessels.slice(0, 3)
const today = dayOf(dayStart)

/** The departures board in the window, lit from five to nine: every 15 seconds the tides, every minute a vessel, every ten minutes the tariff. */
function* boardPolls(): Iterable<TrafficCall> {
  for (let poll = 0; poll < (16 * hour) / 15_000; poll++) {
    const at = dayStart + 5 * hour + poll * 15_000
    const process = ((poll >> 2) % 2) as 0 | 1
    yield { at, process, request: requests.tides(today) }
    if (poll % 4 === 0) yield { at, process, request: requests.position(onBoard[(poll / 4) % onBoard.length]?.id ?? '') }
    if (poll % 40 === 0) yield { at, process, request: requests.tariff() }
  }
}

/** Skippers look at their phones in two rushes, most of them near the middle of it, and a few at any time. */
function* skippers(random: Chance): Iterable<TrafficCall> {
  for (let view = 0; view < 700; view++) {
    const [from, until] =
      view % 10 === 0
        ? [5, 23]
        : random.one([
            [7.25, 7.75],
            [16.5, 17],
          ] as const)
    const spread = (random.whole(0, 1_000) + random.whole(0, 1_000) + random.whole(0, 1_000)) / 3_000
    const at = dayStart + (from + spread * (until - from)) * hour
    const process = random.whole(0, 1) as 0 | 1
    const page = [
      requests.findStation(),
      requests.tides(today),
      requests.findVessel(random.one(vessels).name),
      ...onBoard.map(({ id }) => requests.position(id)),
    ]
    if (random.whole(1, 8) === 1) page.push(requests.quote(random.one([9, 12, 17, 24]), random.whole(1, 3)))
    for (const request of page) yield { at, process, request }
  }
}

/** The desk, from seven to six: searches, quotes, a look at the station, now and then a note on the tariff. */
function* staff(random: Chance): Iterable<TrafficCall> {
  for (let task = 0; task < 400; task++) {
    const at = dayStart + 7 * hour + random.whole(0, 11 * hour)
    const process = random.whole(0, 1) as 0 | 1
    const kind = random.whole(1, 100)
    if (kind <= 40) yield { at, process, request: requests.search(random.one(vessels).name.slice(0, random.whole(2, 5))) }
    else if (kind <= 60) yield { at, process, request: requests.quote(random.whole(6, 30), random.whole(1, 5)) }
    else if (kind <= 75) yield { at, process, request: requests.station() }
    else if (kind <= 99) yield { at, process, request: requests.position(random.one(vessels).id) }
    else yield { at, process, request: requests.note('berths 4 to 6 closed') }
  }
}

/** At two in the night, every length and stay the office may be asked for, one every four seconds. */
function* nightlyBatch(): Iterable<TrafficCall> {
  for (let i = 0; i < 100; i++) {
    yield { at: dayStart + 2 * hour + i * (minute / 15), process: 0, request: requests.quote(8 + (i % 20), 1 + Math.floor(i / 20)) }
  }
}
