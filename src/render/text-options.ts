import type { createColors } from 'picocolors'

/** How text for a terminal is coloured; colours are never the only sign. */
export type Colors = ReturnType<typeof createColors>

export interface TextOptions {
  readonly colors: Colors
  /** IANA time zone in which moments are printed. */
  readonly zone: string
  /** Whether lines may be longer than 80 characters, and say more. Default false. */
  readonly wide?: boolean
}
