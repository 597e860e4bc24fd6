/** The same value now, or a promise of it. Stores that answer synchronously do, so that nothing waits for them. */
export type Maybe<T> = T | Promise<T>
