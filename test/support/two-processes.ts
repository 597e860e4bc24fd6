import { createCluster } from 'redis'
import type { ProviderOptions, Store } from 'stashen'
import { layeredStore } from 'stashen/layered'
import { packedStore } from 'stashen/packed'
import { type RedisClient, redisStore } from 'stashen/redis'
import { sqliteStore } from 'stashen/sqlite'

/** A store that several processes use: on a server, `near`, `sealed` or not, on a cluster of some ports, or in a file. */
export function storeNamed(name: string): Store {
  if (name.startsWith('near:')) return layeredStore({ far: storeNamed(name.slice('near:'.length)) })
  if (name.startsWith('sealed:'))
    return packedStore({
      store: storeNamed(name.slice('sealed:'.length)),
      encrypt: { keys: [{ id: 'one', secret: new Uint8Array(32).fill(7) }] },
    })
  if (name.startsWith('cluster:')) {
    const [, ports = '', prefix = ''] = /^cluster:([\d,]+)\?prefix=(.+)$/.exec(name) ?? []
    const rootNodes = ports.split(',').map((port) => ({ url: `redis://127.0.0.1:${port}` }))
    return redisStore({ client: createCluster({ rootNodes }) as unknown as RedisClient, prefix })
  }
  return name.startsWith('redis:') ? redisStore({ url: name }) : sqliteStore(name)
}

/** The provider that several processes on one store ask. */
export function harbourAt(baseUrl: string): ProviderOptions {
  return {
    baseUrl,
    timeout: '2 s',
    limits: [{ calls: 20, per: 'hour' }, { atOnce: 4 }],
    plan: { currency: 'EUR', perCall: '0' },
    budgets: [{ money: '1.45', per: 'year', stretchAt: 1 }],
    endpoints: {
      position: { request: 'GET /positions/{id}', freshFor: '300 ms', staleWhileRevalidate: '1 day', staleIfError: '1 day' },
      quote: { request: 'GET /quotes/{id}', freshFor: '1 day', maxWait: '20 s' },
      berth: { request: 'GET /berths/{id}', freshFor: '1 day', maxWait: '20 s', perCall: '0.10' },
    },
  }
}
