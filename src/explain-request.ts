import { assemble } from './assemble.js'
import type { StashConfig } from './config/stash-config.js'
import type { Explanation } from './core/decide/explanation.js'
import * as terms from './core/endpoints/compile-terms.js'
import { speaks } from './core/endpoints/endpoint-rules.js'
import { loadCalendars } from './core/limits/calendars.js'
import type { Store } from './core/ports/store.js'
import { Events } from './engine/events.js'
import type { Fetch } from './engine/http/http-upstream.js'
import { onDemand } from './loaded-later.js'

/** What a stash of a checked configuration would do about a request at a time, on an opened store in which nothing is changed. */
export async function explainRequest(config: StashConfig, store: Store, now: number, ...request: Parameters<Fetch>): Promise<Explanation> {
  await loadCalendars()
  const clock = { now: () => now, ticks: () => now, later: () => () => {} }
  const protocols = Object.values(config.providers ?? {}).some(speaks) ? await onDemand.protocols.get() : undefined
  const warn = config.warn ?? (() => {})
  return assemble(config, {
    store,
    clock,
    mode: config.mode ?? 'reuse',
    events: new Events(warn),
    warn,
    fetch: globalThis.fetch,
    terms,
    readers: protocols?.readers,
  }).http.explain(...request)
}
