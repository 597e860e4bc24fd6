/** A figure that is no ratio of two times. */
export interface Figure {
  readonly name: string
  readonly value: number
  readonly limit: number
  readonly unit: 'ms' | 'bytes' | 'calls' | 'kB'
}
