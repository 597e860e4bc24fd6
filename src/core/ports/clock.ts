/** Time, handed in. The system's clock in production, a fast one in tests and simulations. */
export interface Clock {
  /** Milliseconds since 1970-01-01T00:00Z. May be set back by the system. */
  now(): number
  /** Milliseconds on a scale that never goes back, for measuring how long something took. */
  ticks(): number
  /**
   * Calls `run` once, `afterMs` from now, unless the returned function is called before. Keeps a process alive only if `keepsAlive`: where
   * a caller waits for nothing else.
   */
  later(afterMs: number, run: () => void, keepsAlive?: boolean): () => void
}
