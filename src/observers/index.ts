export { type Logger, type LogLevel, type LogOptions, logEvents } from './log-events.js'
export { prometheusText } from './prometheus-text.js'
export { traceCalls } from './trace-calls.js'
