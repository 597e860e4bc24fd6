import { byChoice } from '../decide/reasons.js'
import { type JournalLine, parseLine } from './journal-line.js'
import type { KeyReport, KeysReport } from './keys-report.js'

/** Adds up the lines of a journal by key. */
export class KeySums {
  readonly #since: number
  readonly #until: number
  readonly #sums = new Map<string, Writable<KeyReport>>()
  #lines = 0
  #skipped = 0
  #lost = 0
  #first: string | null = null

  /** Only what ended from `since` on, before `until`, counts. */
  constructor(since: number, until: number) {
    this.#since = since
    this.#until = until
  }

  add(text: string): void {
    const line = parseLine(text)
    if (!line) {
      this.#skipped++
      return
    }
    const at = Date.parse(line.at)
    if (at < this.#since || at >= this.#until) return
    this.#lines++
    this.#first ??= line.at
    if (line.is === 'lost') this.#lost += line.lines
    else if (line.key !== undefined) count(this.#sumOf(line, line.key), line)
  }

  /** The keys that saved most calls, then those asked most; `most` of them. */
  report(most: number): KeysReport {
    const all = [...this.#sums.values()]
    const list = all.sort((a, b) => b.saved - a.saved || b.asked - a.asked || (a.key < b.key ? -1 : 1)).slice(0, most)
    const journal = {
      lines: this.#lines,
      skipped: this.#skipped,
      lost: this.#lost,
      since: this.#first === null ? null : new Date(this.#first),
    }
    return { journal, keys: all.length, list }
  }

  #sumOf({ provider, endpoint }: { provider: string; endpoint: string }, key: string): Writable<KeyReport> {
    const name = JSON.stringify([provider, endpoint, key])
    const known = this.#sums.get(name)
    if (known) return known
    const sum = { provider, endpoint, key, asked: 0, upstream: 0, fromStore: 0, errored: 0, saved: 0 }
    this.#sums.set(name, sum)
    return sum
  }
}

function count(sum: Writable<KeyReport>, line: Exclude<JournalLine, { is: 'lost' }>): void {
  if (line.is === 'upstream') {
    sum.upstream++
    return
  }
  sum.asked++
  if (line.how === 'hit' || line.how === 'stale') sum.fromStore++
  if (line.how === 'hit' || line.how === 'collapsed' || (line.how === 'stale' && byChoice.includes(line.reason))) sum.saved++
  if (line.how === 'failed') sum.errored++
}

type Writable<T> = { -readonly [Name in keyof T]: T[Name] }
