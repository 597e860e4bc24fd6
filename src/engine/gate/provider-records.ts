import { loadCalendars } from '../../core/limits/calendars.js'
import { type ProviderState, parseProviderState } from '../../core/limits/provider-state.js'
import { type ProviderStatus, statusOf } from '../../core/limits/status.js'
import type { SharedRecords } from '../../core/ports/shared-records.js'

/** The names under which all who share a store find what is known of its providers begin so. */
const prefix = 'provider '

/** How long what is known is kept after its last change, milliseconds: longer than any window. */
export const keepForMs = 400 * 86_400_000

export function recordName(provider: string): string {
  return prefix + provider
}

/** How the providers stand of which a store knows anything, by name. */
export async function statusOfProviders(records: SharedRecords, now: number): Promise<ProviderStatus[]> {
  await loadCalendars()
  const all = [...(await records.records(prefix, now))].sort(([a], [b]) => (a < b ? -1 : 1))
  return all.map(([name, text]) => statusOf(name.slice(prefix.length), parseProviderState(text), now))
}

/** What a store knows of a provider, as text; undefined where it knows nothing. */
export async function recordOf(records: SharedRecords, provider: string, now: number): Promise<string | undefined> {
  return records.read(recordName(provider), now)
}

/** Changes what a store knows of a provider, in one step. `change` may ask calendars. */
export async function changeProvider(
  records: SharedRecords,
  provider: string,
  now: number,
  change: (text: string | undefined) => ProviderState,
): Promise<void> {
  await loadCalendars()
  await records.update(recordName(provider), now, (text) => ({ value: JSON.stringify(change(text)), keepUntil: now + keepForMs }))
}
