import { type Maybe, memoryStore, type Store } from 'stashen'

const parts = {
  entries: ['get', 'put', 'updateTimes', 'invalidate', 'remove', 'trim', 'list', 'sweep', 'size'],
  records: ['update', 'read', 'records', 'sweep'],
  ledger: ['add', 'accounts', 'read', 'replace', 'drop', 'addFacts', 'facts'],
} as const

/** A store whose every call goes through `around`, which gets its name, such as `entries.get`, and what does it. */
export function wrappedStore(store: Store, around: (name: string, work: () => Maybe<unknown>, args: unknown[]) => Maybe<unknown>): Store {
  const wrapped = Object.entries(parts).map(([part, methods]) => {
    const inner = store[part as keyof typeof parts] as unknown as Record<string, (...args: unknown[]) => Maybe<unknown>>
    return [
      part,
      Object.fromEntries(
        methods.map((name) => [name, (...args: unknown[]) => around(`${part}.${name}`, () => inner[name]?.(...args), args)]),
      ),
    ]
  })
  return { ...Object.fromEntries(wrapped), open: (opening: never) => store.open(opening), close: () => store.close() } as Store
}

/** A memory store that answers every call a tick later, as a remote one would. */
export function asynchronousStore(store = memoryStore()): Store {
  return wrappedStore(store, async (_name, work) => {
    await undefined
    return work()
  })
}

/** How many calls of the application a store's ledger holds. */
export async function askedIn(store: Store): Promise<number> {
  const names = ['hit', 'stale', 'collapsed', 'forwarded', 'fallback', 'errored'] as const
  const rows = await store.ledger.read({ since: 0, until: Number.MAX_SAFE_INTEGER })
  return rows.reduce((sum, { tally }) => sum + names.reduce((calls, name) => calls + (tally[name] ?? 0), 0), 0)
}
