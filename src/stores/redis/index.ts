export type { RedisAddress } from './address.js'
export type { RedisClient } from './link.js'
export { type RedisStoreOptions, redisStore } from './store.js'
