import type { Clock } from 'stashen'
import { providers } from './config.js'
import { ebblineProvider } from './providers/ebbline.js'
import { quayrateProvider } from './providers/quayrate.js'
import type { SimulatedProvider } from './providers/simulated-provider.js'
import { skerrylightProvider } from './providers/skerrylight.js'

/** The three simulated providers. */
export interface Harbour {
  readonly providers: Readonly<Record<keyof typeof providers, SimulatedProvider>>
  /** Where each is served, e.g. `http://127.0.0.1:40123`; nothing where they answer in this process. */
  readonly urls: Partial<Record<keyof typeof providers, string>>
  /** A `fetch` for which the providers' fictional hosts lead to them. */
  readonly fetch: typeof globalThis.fetch
  close(): Promise<void>
}

export interface HarbourOptions {
  /** A clock of your own: the providers then answer in this process. Default: the system's time, and real HTTP servers on loopback ports. */
  readonly clock?: Clock
  /** Default 1. */
  readonly seed?: number
  /** Whether Quayrate goes down in the afternoon of the demo day. Default true. */
  readonly withOutage?: boolean
  /** How long the providers take, as a multiple of their usual response times; 0: no time at all. Default 1. Without a clock of your own. */
  readonly latency?: number
  /** Where the first provider listens; the others do on the ports behind it. Default: any free ports. */
  readonly port?: number
}

/** Starts the simulated providers. */
export async function openHarbour({ clock, seed = 1, withOutage = true, latency = 1, port }: HarbourOptions = {}): Promise<Harbour> {
  const setting = { clock: clock ?? systemTime(latency), seed }
  const all = {
    ebbline: ebblineProvider(setting),
    skerrylight: skerrylightProvider(setting),
    quayrate: quayrateProvider(setting, { withOutage }),
  }
  const named = Object.entries(all) as [keyof typeof all, SimulatedProvider][]
  const urls: Harbour['urls'] = {}
  if (!clock) {
    const listening = named.map(async ([name, provider], nth) => {
      urls[name] = await provider.listen(port === undefined ? 0 : port + nth)
    })
    await Promise.all(listening)
  }
  const hosts = new Map(named.map(([name, provider]) => [new URL(providers[name].baseUrl).origin, { provider, url: urls[name] }]))
  return {
    providers: all,
    urls,
    fetch: (input, init) => {
      const url = new URL(input instanceof Request ? input.url : input)
      const host = hosts.get(url.origin)
      if (host && host.url === undefined) return host.provider.fetch(url, init)
      const there = `${host?.url ?? url.origin}${url.pathname}${url.search}`
      return globalThis.fetch(input instanceof Request ? new Request(there, input) : there, init)
    },
    async close() {
      await Promise.all(named.map(([, provider]) => provider.close()))
    },
  }
}

const systemTime = (latency: number): Clock => ({
  now: () => Date.now(),
  ticks: () => performance.now(),
  later(afterMs, run) {
    const timer = setTimeout(run, latency * afterMs)
    return () => clearTimeout(timer)
  },
})
