import { closeSync, openSync, readdirSync, readSync } from 'node:fs'
import { join } from 'node:path'
import type { SeenCall } from '../core/traffic/seen-call.js'
import type { SeenLine } from './measure-into.js'

/** Reads what the processes of a measured program write, while they write it. */
export class SeenLines {
  readonly #folder: string
  readonly #read = new Map<string, { offset: number; rest: string }>()
  readonly calls: SeenCall[] = []
  readonly #keys = new Set<string>()
  /** Milliseconds that callers waited for them, in all. */
  waitedMs = 0
  /** How often calls that could not be followed began, by origin. */
  readonly unseen = new Map<string, number>()

  constructor(folder: string) {
    this.#folder = folder
  }

  /** How many of the calls asked what had been asked before. */
  get repeats(): number {
    return this.calls.length - this.#keys.size
  }

  /** Takes in what was written since it was read last. A line that is not whole waits for its end. */
  read(): void {
    for (const name of readdirSync(this.#folder)) {
      const known = this.#read.get(name) ?? { offset: 0, rest: '' }
      const text = known.rest + this.#textFrom(name, known)
      const lines = text.split('\n')
      known.rest = lines.pop() ?? ''
      this.#read.set(name, known)
      for (const line of lines) this.#take(JSON.parse(line) as SeenLine)
    }
  }

  #take(line: SeenLine): void {
    if ('unseen' in line) this.unseen.set(line.unseen, (this.unseen.get(line.unseen) ?? 0) + 1)
    else {
      this.calls.push(line)
      this.#keys.add(line.key)
      this.waitedMs += line.ms
    }
  }

  #textFrom(name: string, known: { offset: number }): string {
    const file = openSync(join(this.#folder, name), 'r')
    try {
      const pieces: Buffer[] = []
      for (;;) {
        const piece = Buffer.alloc(65_536)
        const length = readSync(file, piece, 0, piece.length, known.offset)
        if (length === 0) return Buffer.concat(pieces).toString()
        known.offset += length
        pieces.push(piece.subarray(0, length))
      }
    } finally {
      closeSync(file)
    }
  }
}
