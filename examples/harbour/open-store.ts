import type { Store } from 'stashen'
import { redisStore } from 'stashen/redis'
import { sqliteStore } from 'stashen/sqlite'
import type { FastClock } from './fast-clock.js'

/** The store of a demo day: a file, or the address of a Redis server. */
export function openStoreOf(named: string): Store {
  return isServer(named) ? redisStore({ url: named }) : sqliteStore(named)
}

export function isServer(named: string): boolean {
  return /^rediss?:\/\//i.test(named)
}

/** A store whose answers take no time by a fast clock, however long they are under way. */
export function timelessStore(store: Store, clock: FastClock): Store {
  const { entries, records, ledger } = store
  return {
    ...timeless({ ...store }, clock),
    entries: timeless({ ...methodsOf(entries), claims: entries.claims && timeless(methodsOf(entries.claims), clock) }, clock),
    records: timeless(methodsOf(records), clock),
    ledger: timeless(methodsOf(ledger), clock),
  } as unknown as Store
}

type Methods = Record<string, unknown>

function timeless(methods: Methods, clock: FastClock): Methods {
  return Object.fromEntries(
    Object.entries(methods).map(([name, method]) => {
      if (typeof method !== 'function') return [name, method]
      return [
        name,
        (...args: unknown[]) => {
          const done: unknown = method(...args)
          return done instanceof Promise ? clock.errand(done) : done
        },
      ]
    }),
  )
}

/** The methods of an object, by their names. */
function methodsOf(object: object): Methods {
  const names = Object.getOwnPropertyNames(Object.getPrototypeOf(object)).filter((name) => name !== 'constructor')
  const all = object as Methods
  return Object.fromEntries(
    names.filter((name) => typeof all[name] === 'function').map((name) => [name, (all[name] as () => unknown).bind(object)]),
  )
}
