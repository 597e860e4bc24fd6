import { type Mode, openStash, type Stash, type Store } from 'stashen'
import { fileJournal } from 'stashen/journal'
import { providers } from './config.js'
import { FastClock } from './fast-clock.js'
import { openHarbour } from './open-harbour.js'
import { timelessStore } from './open-store.js'
import type { ProviderCounts } from './providers/simulated-provider.js'
import { Chance } from './random.js'
import type { TrafficCall } from './traffic.js'
import { dayStart, harbour, hour, tariffChange } from './world.js'

export interface DaySetting {
  /** The store of each of the two web processes. */
  readonly store: () => Store
  /** Where every call is written down, if at all. */
  readonly journal?: string
  readonly mode: Mode
  readonly seed: number
  readonly traffic: readonly TrafficCall[]
  /** Reported of every call that has left. */
  readonly onCall?: () => void
}

/** What the providers counted themselves, by provider and path template. */
export type DayCounts = Record<keyof typeof providers, ProviderCounts>

/** What the providers bill, by provider and day. */
export type DayUsage = Record<keyof typeof providers, readonly (readonly [day: string, calls: number])[]>

/** Plays the demo day on a fast clock against freshly started providers, with two stashes on one file. */
export async function runDay({ store, journal, mode, seed, traffic, onCall }: DaySetting): Promise<{ counts: DayCounts; usage: DayUsage }> {
  const clock = new FastClock(dayStart)
  const harbour = await openHarbour({ clock, seed })
  try {
    const open = (process: string) => {
      const chance = new Chance(seed, process)
      const random = () => chance.fraction()
      return openStash({
        store: timelessStore(store(), clock),
        mode,
        clock,
        random,
        fetch: harbour.fetch,
        providers,
        ...(journal !== undefined && { journal: fileJournal(journal) }),
      })
    }
    const stashes = [await open('first process'), await open('second process')] as const
    await clock.run(play(stashes, clock, traffic, onCall))
    const { ebbline, skerrylight, quayrate } = harbour.providers
    return {
      counts: { ebbline: ebbline.counts, skerrylight: skerrylight.counts, quayrate: quayrate.counts },
      usage: { ebbline: [...ebbline.usage], skerrylight: [...skerrylight.usage], quayrate: [...quayrate.usage] },
    }
  } finally {
    await harbour.close()
  }
}

/** A new tariff makes what is stored of it, and every quote, out of date. */
const announcedAt = dayStart + tariffChange * hour

async function play(
  stashes: readonly [Stash, Stash],
  clock: FastClock,
  traffic: readonly TrafficCall[],
  onCall?: () => void,
): Promise<void> {
  const waiting = new Set<Promise<unknown>>()
  let isAnnounced = false
  for (const { at, process, request } of traffic) {
    if (!isAnnounced && at >= announcedAt) {
      await clock.sleep(announcedAt - clock.now())
      await stashes[0].invalidate({ label: `tariff ${harbour}` }) // as a webhook of the provider would
      isAnnounced = true
    }
    await clock.sleep(at - clock.now())
    const answered = ask(stashes[process], request).finally(() => waiting.delete(answered))
    waiting.add(answered)
    onCall?.()
  }
  await Promise.all(waiting)
  await Promise.all(stashes.map((stash) => stash.close()))
}

/** A caller who reads the answer and shrugs at errors: the ledger has them. */
async function ask(stash: Stash, { url, init }: TrafficCall['request']): Promise<void> {
  try {
    const response = await stash.fetch(url, init)
    await response.arrayBuffer()
  } catch {
    // the day goes on
  }
}
