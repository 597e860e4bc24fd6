import { type Entry, memoryStore, type Store } from 'stashen'
import type { FastClock } from 'stashen/harbour'
import { wrappedStore } from './wrapped-store.js'

/** Draws numbers from 0 to 1; the same seed, the same numbers (mulberry32). */
export function randomOf(seed: number): () => number {
  let state = seed
  return () => {
    state = (state + 0x6d2b79f5) | 0
    let mixed = Math.imul(state ^ (state >>> 15), 1 | state)
    mixed = (mixed + Math.imul(mixed ^ (mixed >>> 7), 61 | mixed)) ^ mixed
    return ((mixed ^ (mixed >>> 14)) >>> 0) / 2 ** 32
  }
}

/** A limit as the simulated provider holds it, by the letter: so many calls seen in any window, or under way at once. */
export interface HeldLimit {
  readonly covers: (path: string) => boolean
  readonly calls: number
  readonly perMs: number | 'at once'
}

/** A provider in this process that answers on a fast clock, badly at random, and notes every call that passes a limit. */
export function badProvider(clock: FastClock, random: () => number, limits: readonly HeldLimit[]) {
  const seen: number[][] = limits.map(() => [])
  const underWay = limits.map(() => 0)
  const passed: string[] = []
  let calls = 0

  function notice(path: string): () => void {
    const held = limits.flatMap((limit, i) => (limit.covers(path) ? [i] : []))
    for (const i of held) {
      const { calls: most, perMs } = limits[i] as HeldLimit
      underWay[i] = (underWay[i] ?? 0) + 1
      const times = seen[i] as number[]
      times.push(clock.now())
      const inWindow = perMs === 'at once' ? (underWay[i] ?? 0) : times.filter((at) => at > clock.now() - perMs).length
      if (perMs !== 'at once') seen[i] = times.filter((at) => at > clock.now() - perMs)
      if (inWindow > most) passed.push(`${inWindow} of ${most} at ${clock.now()} by ${path}`)
    }
    return () => {
      for (const i of held) underWay[i] = (underWay[i] ?? 0) - 1
    }
  }

  const fetch: typeof globalThis.fetch = async (input, init) => {
    calls++
    const { pathname } = new URL(String(input))
    const signal = init?.signal as AbortSignal
    await clock.sleep(random() * 300)
    signal.throwIfAborted()
    const over = notice(pathname)
    try {
      const kind = random()
      if (kind < 0.03) await new Promise((_, reject) => signal.addEventListener('abort', () => reject(signal.reason), { once: true }))
      await clock.sleep(20 + random() * 400)
      signal.throwIfAborted()
      if (kind < 0.06) throw new TypeError('fetch failed')
      if (kind < 0.1) return new Response('{}', { status: 503 })
      if (kind < 0.11) return new Response('{}', { status: 429, headers: { 'retry-after': '1' } })
      if (kind < 0.13) return new Response(new ReadableStream({ pull: (controller) => controller.error(new Error('cut')) }))
      if (kind < 0.15) return new Response('{"n":', { headers: { 'content-type': 'application/json' } })
      return new Response(JSON.stringify({ path: pathname, calls }), { headers: { 'content-type': 'application/json' } })
    } finally {
      over()
    }
  }
  return {
    fetch,
    passed,
    /** Calls that left for it, also those that were given up on their way. */
    get calls() {
      return calls
    },
  }
}

/** A memory store that, turn by turn, works, fails, gives no answer and gives rubbish. */
export function flappingStore(clock: FastClock, turnMs: number): Store {
  const store = memoryStore({ maxEntries: 300 })
  const begin = clock.now()
  const turn = () => (['works', 'works', 'fails', 'works', 'hangs', 'rubbish'] as const)[Math.floor((clock.now() - begin) / turnMs) % 6]
  return wrappedStore(store, async (name, work) => {
    if (turn() === 'fails') throw new Error('disk on fire')
    if (turn() === 'hangs') await new Promise(() => {})
    const done = await work()
    return name === 'entries.get' && done && turn() === 'rubbish' ? spoiled(done as Entry) : done
  })
}

function spoiled(entry: Entry): Entry {
  const { memo: _, ...rest } = entry
  return { ...rest, head: entry.head.slice(0, 5) }
}
