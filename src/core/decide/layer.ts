/** The layers of a store that has some: copies in this process, and what all share. */
export type Layer = 'near' | 'far'

/** Where a stored answer was found. `reread`: it was read from the far layer because its copy had run out, and is the same still. */
export interface FoundIn {
  readonly layer: Layer
  readonly reread: boolean
}
