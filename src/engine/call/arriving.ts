import type { Keeping } from '../../core/decide/keep.js'

/** Whoever sees a body arrive without being one of its readers. */
export interface BodyWatcher {
  readonly piece: (bytes: Uint8Array) => void
  /** Called when readers see its end. `too-large`: no more of it is told. `broken`: what broke it off. */
  readonly over: (how: 'complete' | 'too-large' | { readonly broken: unknown }) => void
  /** Whether it is wanted though all readers have left. */
  readonly isWanted: () => boolean
}

/** An answer whose body is arriving, as others can be shown it. */
export interface Arriving {
  /** Its head, as others have it when it is stored. */
  head(keeping: Keeping): string
  /** Shows a watcher each piece of its body from the first on. Returns false where not all of it is kept. There may be one. */
  watch(watcher: BodyWatcher): boolean
  /** The watcher wants no more: where no reader is left, nobody does. */
  unwatched(): void
}
