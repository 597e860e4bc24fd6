export { type SqliteStoreOptions, sqliteStore } from './store.js'
