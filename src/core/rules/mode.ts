/**
 * What is done with calls. `measure`: nothing is reused, everything is counted, and what reuse would have saved. `reuse`: answers are
 * reused. `offline`: stored answers of any age are given, and a clear error where there is none; nothing is called.
 */
export const modes = ['measure', 'reuse', 'offline'] as const
export type Mode = (typeof modes)[number]
