import type { Clock } from 'stashen'
import { providers } from './config.js'
import { FastClock } from './fast-clock.js'
import { flightFetch } from './flight-fetch.js'
import { startEbbline } from './providers/ebbline.js'
import { startQuayrate } from './providers/quayrate.js'
import type { SimulatedProvider } from './providers/simulated-provider.js'
import { startSkerrylight } from './providers/skerrylight.js'

/** The three simulated providers, running. */
export interface Harbour {
  readonly providers: { readonly ebbline: SimulatedProvider; readonly skerrylight: SimulatedProvider; readonly quayrate: SimulatedProvider }
  /** A `fetch` for which the providers' made-up hosts lead to their loopback ports. */
  readonly fetch: typeof globalThis.fetch
  close(): Promise<void>
}

export interface HarbourOptions {
  /** The providers' clock. Default: the system's time. */
  readonly clock?: Clock
  /** Default 1. */
  readonly seed?: number
  /** Whether Quayrate goes down in the afternoon of the demo day. Default true. */
  readonly withOutage?: boolean
  /** Where the first provider listens; the others do behind it. Default: any free ports. */
  readonly port?: number
}

/** Starts the simulated providers as real HTTP servers on free loopback ports. */
export async function openHarbour({ clock = systemTime, seed = 1, withOutage = true, port }: HarbourOptions = {}): Promise<Harbour> {
  const setting = (nth: number) => ({ clock, seed, ...(port !== undefined && { port: port + nth }) })
  const [ebbline, skerrylight, quayrate] = await Promise.all([
    startEbbline(setting(0)),
    startSkerrylight(setting(1)),
    startQuayrate(setting(2), { withOutage }),
  ])
  const hosts = new Map([
    [new URL(providers.ebbline.baseUrl).origin, ebbline.url],
    [new URL(providers.skerrylight.baseUrl).origin, skerrylight.url],
    [new URL(providers.quayrate.baseUrl).origin, quayrate.url],
  ])
  const { fetch, close } = clock instanceof FastClock ? flightFetch(clock) : { fetch: globalThis.fetch, close: () => {} }
  return {
    providers: { ebbline, skerrylight, quayrate },
    fetch: (input, init) => {
      const url = new URL(input instanceof Request ? input.url : input)
      const there = `${hosts.get(url.origin) ?? url.origin}${url.pathname}${url.search}`
      return fetch(input instanceof Request ? new Request(there, input) : there, init)
    },
    async close() {
      close()
      await Promise.all([ebbline.close(), skerrylight.close(), quayrate.close()])
    },
  }
}

const systemTime: Clock = {
  now: () => Date.now(),
  ticks: () => performance.now(),
  later(afterMs, run) {
    const timer = setTimeout(run, afterMs)
    return () => clearTimeout(timer)
  },
}
