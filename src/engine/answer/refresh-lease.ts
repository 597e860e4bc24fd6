import type { Endpoint } from '../../core/endpoints/endpoint.js'
import type { Clock } from '../../core/ports/clock.js'
import type { Store } from '../../core/ports/store.js'

/**
 * Takes the refresh of a key for this process, for as long as an upstream call can take; undefined where another process has it. A store
 * that cannot say so keeps nobody from refreshing.
 */
export async function leaseRefresh(
  { store, clock }: { readonly store: Store; readonly clock: Clock },
  key: string,
  { timeouts }: Endpoint,
): Promise<{ release(): Promise<void> } | undefined> {
  const name = `refresh ${key}`
  let taken = true
  const write = async (change: (value: string | undefined, now: number) => number | undefined) => {
    try {
      const now = clock.now()
      await store.records.update(name, now, (value) => {
        const keepUntil = change(value, now)
        return keepUntil === undefined ? undefined : { value: 'true', keepUntil }
      })
    } catch {
      // each process for itself, then
    }
  }
  await write((value, now) => {
    taken = value === undefined
    return taken ? now + timeouts.totalMs + 1_000 : undefined
  })
  return taken ? { release: () => write((_value, now) => now) } : undefined
}
