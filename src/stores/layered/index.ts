export { type LayeredStoreOptions, layeredStore } from './store.js'
