export { type SqliteStoreOptions, sqliteStore } from './sqlite-store.js'
