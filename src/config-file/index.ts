export type { StashConfig } from '../config/stash-config.js'
export { findConfig, loadConfig } from './load-config.js'
