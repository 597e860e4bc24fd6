/** What is stored of an endpoint. */
export interface EndpointSize {
  readonly provider: string
  readonly endpoint: string
  readonly entries: number
  /** Length of the bodies. */
  readonly bytes: number
}

/** How a store does; what it does not say, or cannot while it is in trouble, is null. */
export interface StoreStatus {
  /** What is wrong with it. */
  readonly trouble: string | null
  readonly entries: number | null
  readonly bytes: number | null
  /** What is stored of each endpoint, most bytes first; null where nobody asked. */
  readonly endpoints: readonly EndpointSize[] | null
  /** What it is on, e.g. `Redis 7.0.15`. */
  readonly on: string | null
  readonly writable: boolean | null
  /** How long it took to say this, milliseconds. */
  readonly answersInMs: number | null
  /** How far its clock is ahead of this machine's, milliseconds; it rules where there are claims. */
  readonly clockAheadMs: number | null
  /** Its policy of dropping keys when it is full, where limits and counts may get lost so. */
  readonly drops: string | null
}
