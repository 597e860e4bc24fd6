export type { CompressOptions, EncryptionKey, PackedStoreOptions } from './options.js'
export { packedStore } from './store.js'
