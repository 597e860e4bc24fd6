export { type IndexedDbStoreOptions, indexedDbStore } from './store.js'
