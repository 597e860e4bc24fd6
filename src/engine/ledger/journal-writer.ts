import { callLine, type JournalLine, upstreamLine } from '../../core/ledger/journal-line.js'
import { OncePerEpisode } from '../../core/once-per-episode.js'
import type { Clock } from '../../core/ports/clock.js'
import type { Journal } from '../../core/ports/journal.js'
import type { Events } from '../events.js'
import { systemClock } from '../system-clock.js'
import { writeAfterMs } from './ledger-writer.js'

/** Lines that wait to be written, at the most; older ones are given up for them. */
const mostLines = 20_000

/** Writes every call into a journal, in batches, as soon as the books are written. */
export class JournalWriter {
  readonly #journal: Journal
  readonly #clock: Clock
  readonly #trouble: OncePerEpisode
  readonly #endListening: (() => void)[]
  #pending: JournalLine[] = []
  #lost = 0
  #cancel: (() => void) | undefined
  #writing: Promise<void> = Promise.resolve()

  constructor(journal: Journal, { clock, events, warn }: { clock: Clock; events: Events; warn: (message: string) => void }) {
    this.#journal = journal
    this.#clock = clock
    this.#trouble = new OncePerEpisode(warn)
    this.#endListening = [
      events.on('call', (event) => this.#add(callLine(event, clock.now()))),
      events.on('upstream', (event) => this.#add(upstreamLine(event, clock.now()))),
    ]
  }

  #add(line: JournalLine): void {
    this.#pending.push(line)
    if (this.#pending.length > mostLines) {
      this.#lost += this.#pending.length - mostLines / 2
      this.#pending = this.#pending.slice(-mostLines / 2)
    }
    this.#cancel ??= systemClock.later(writeAfterMs, () => void this.write())
  }

  /** Writes what waits. Never rejects: what cannot be written is tried again. */
  async write(): Promise<void> {
    this.#writing = this.#writing.then(() => this.#write())
    await this.#writing
  }

  /** Writes what waits while the process or the page ends: all of it where the journal writes at once. */
  leave(): void {
    void this.#write()
  }

  async close(): Promise<void> {
    for (const end of this.#endListening) end()
    await this.write()
    this.#cancel?.()
    await this.#journal.close()
  }

  async #write(): Promise<void> {
    this.#cancel?.()
    this.#cancel = undefined
    const [lines, lost] = [this.#pending, this.#lost]
    if (lines.length === 0) return
    this.#pending = []
    this.#lost = 0
    const gone: JournalLine[] = lost > 0 ? [{ is: 'lost', at: new Date(this.#clock.now()).toISOString(), lines: lost }] : []
    try {
      await this.#journal.write([...gone, ...lines].map((line) => JSON.stringify(line)))
      this.#trouble.fine()
    } catch (error) {
      this.#trouble.trouble('the journal cannot be written: calls go on, and their lines wait in memory for a while', error)
      this.#pending = [...lines, ...this.#pending]
      this.#lost += lost
      this.#cancel ??= systemClock.later(writeAfterMs, () => void this.write())
    }
  }
}
