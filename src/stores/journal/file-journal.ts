import {
  closeSync,
  existsSync,
  fstatSync,
  mkdirSync,
  openSync,
  readdirSync,
  readFileSync,
  readSync,
  renameSync,
  rmSync,
  statSync,
  writeSync,
} from 'node:fs'
import { basename, dirname, join } from 'node:path'
import type { Journal } from '../../core/ports/journal.js'

export interface FileJournalOptions {
  /** Bytes that a file holds before another is begun, give or take what is written at once. Default 16 MiB. */
  readonly maxBytes?: number
  /** Files kept besides the one that is written; the oldest go first. Default 4. */
  readonly keep?: number
}

/**
 * A journal in a file of JSON Lines, which several processes may write. A full one is set aside under the time it was, as
 * `calls.2026-06-30T120000.000Z.jsonl` beside `calls.jsonl`.
 */
export function fileJournal(file: string, { maxBytes = 16 * 1024 * 1024, keep = 4 }: FileJournalOptions = {}): Journal {
  return new FileJournal(file, maxBytes, keep)
}

class FileJournal implements Journal {
  readonly #file: string
  readonly #maxBytes: number
  readonly #keep: number

  constructor(file: string, maxBytes: number, keep: number) {
    this.#file = file
    this.#maxBytes = maxBytes
    this.#keep = keep
  }

  /** At once, as the SQLite store does: it is a few lines every second, and nothing can come between. */
  write(lines: readonly string[]): void {
    mkdirSync(dirname(this.#file), { recursive: true })
    this.#setAsideWhenFull()
    const file = openSync(this.#file, 'a+')
    try {
      // a process that was ended in the middle of a line must not spoil the next one too
      const { size } = fstatSync(file)
      const last = Buffer.alloc(1)
      if (size > 0) readSync(file, last, 0, 1, size - 1)
      const isOpen = size > 0 && last.toString() !== '\n'
      writeSync(file, `${isOpen ? '\n' : ''}${lines.join('\n')}\n`)
    } finally {
      closeSync(file)
    }
  }

  async *read(): AsyncIterable<string> {
    for (const file of [...setAside(this.#file), ...(existsSync(this.#file) ? [this.#file] : [])]) {
      for (const line of readFileSync(file, 'utf8').split('\n')) if (line !== '') yield line
    }
  }

  close(): void {}

  /** Another process may do the same: the names differ, so that neither takes the other's place. */
  #setAsideWhenFull(): void {
    const size = statSync(this.#file, { throwIfNoEntry: false })?.size ?? 0
    if (size < this.#maxBytes) return
    const moment = new Date().toISOString().replaceAll(':', '')
    const { stem, ending } = parts(this.#file)
    try {
      renameSync(this.#file, join(dirname(this.#file), `${stem}.${moment}${ending}`))
    } catch {
      // another process has done it
    }
    for (const old of setAside(this.#file).slice(0, this.#keep === 0 ? undefined : -this.#keep)) rmSync(old, { force: true })
  }
}

/** Files of a journal that are full, oldest first. */
function setAside(file: string): string[] {
  const { stem, ending } = parts(file)
  const folder = dirname(file)
  if (!existsSync(folder)) return []
  const isOne = (name: string) =>
    name.startsWith(`${stem}.`) &&
    name.endsWith(ending) &&
    /^\d{4}-\d\d-\d\dT[\d.]+Z$/.test(name.slice(stem.length + 1, -ending.length || undefined))
  return readdirSync(folder)
    .filter((name) => isOne(name) && statSync(join(folder, name)).isFile())
    .sort()
    .map((name) => join(folder, name))
}

function parts(file: string): { stem: string; ending: string } {
  const name = basename(file)
  const dot = name.lastIndexOf('.')
  return dot <= 0 ? { stem: name, ending: '' } : { stem: name.slice(0, dot), ending: name.slice(dot) }
}
