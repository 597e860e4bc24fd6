import type { Store } from '../core/ports/store.js'
import type { SeenCall } from '../core/traffic/seen-call.js'
import { openStash } from '../open-stash.js'
import type { StarterConfig } from './starter-config.js'

/** Counts calls that were seen in a ledger, as a stash that only measures would have: so that reports can be asked for. `onProgress`: told how many are done, and of how many. */
export async function replay(
  calls: readonly SeenCall[],
  config: StarterConfig,
  store: Store,
  onProgress: (done: number, of: number) => void,
): Promise<void> {
  let now = 0
  let ticks = 0
  let done = 0
  const byUrl = new Map<string, SeenCall>()
  const stash = await openStash({
    ...config,
    store,
    refusals: 'respond',
    clock: { now: () => now, ticks: () => ticks, later: () => () => {} },
    warn: () => {},
    fetch: async (input) => {
      const call = byUrl.get(new Request(input).url) as SeenCall
      ticks += call.ms
      if (call.status === undefined) throw new TypeError('no answer came')
      const isEmpty = call.status === 204 || call.status === 205 || call.status === 304
      return new Response(isEmpty ? null : (call.answer ?? `${ticks}`), { status: call.status, headers: { 'content-type': 'text/plain' } })
    },
  })
  try {
    for (const call of [...calls].sort((a, b) => a.at - b.at)) {
      const url = `${call.origin}${call.path}?call=${encodeURIComponent(call.key)}`
      byUrl.set(url, call)
      now = call.at
      const response = await stash.fetch(url, { method: call.method }).catch(() => undefined)
      await response?.text().catch(() => undefined)
      onProgress(++done, calls.length)
    }
  } finally {
    await stash.close()
  }
}
