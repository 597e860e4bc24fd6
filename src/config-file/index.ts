export type { StashConfig } from '../config/stash-config.js'
export { findConfig } from './find-config.js'
export { loadConfig } from './load-config.js'
