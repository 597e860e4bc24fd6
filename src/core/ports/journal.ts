import type { Maybe } from './maybe.js'

/**
 * Where calls are written down one by one, as lines of JSON (JSON Lines) without line ends.
 *
 * `write` may be called at any time and by several processes, `close` once after everything else. A method that cannot do its work throws or
 * rejects.
 */
export interface Journal {
  /** Adds lines: all of them or, if it throws, some; each is whole, or ends with the file. */
  write(lines: readonly string[]): Maybe<void>
  /** Every line that is kept, oldest first. */
  read(): AsyncIterable<string>
  close(): Maybe<void>
}
