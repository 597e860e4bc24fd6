import { accessSync, constants, type Stats, statSync, unlinkSync } from 'node:fs'
import { dirname } from 'node:path'

/** What a store file in use is on disk. */
export interface FileMark {
  readonly file: string | undefined
  /** Of the files that SQLite keeps beside it. */
  readonly beside: readonly (string | undefined)[]
  readonly size: number
}

/** `separated`: what SQLite keeps beside it is gone or another's, and with it what was written last. */
export type FileLoss = 'deleted' | 'replaced' | 'shortened' | 'separated'

/** What SQLite takes for a database that is no file. */
const inMemory = ':memory:'

const endings = ['-wal', '-shm']

export function markOf(path: string): FileMark {
  return { file: identityOf(path), beside: endings.map((ending) => identityOf(path + ending)), size: sizeOf(path) }
}

/** Whether a file in use is still where it was, and all of it. Quick. */
export function isInPlace(path: string, { file, size }: FileMark): boolean {
  if (path === inMemory) return true
  const stats = statSync(path, { throwIfNoEntry: false })
  return stats !== undefined && stats.size >= size && file === identityIn(stats)
}

/** Whether this process may write a file, and beside it. */
export function mayWrite(path: string): boolean {
  if (path === inMemory) return true
  try {
    for (const one of [path, dirname(path)]) accessSync(one, constants.W_OK)
    return true
  } catch {
    return false
  }
}

/** What became of a file in use; undefined where nothing did. */
export function lossOf(path: string, { file, beside, size }: FileMark): FileLoss | undefined {
  const now = identityOf(path)
  if (now !== file) return now === undefined ? 'deleted' : 'replaced'
  if (endings.some((ending, i) => identityOf(path + ending) !== beside[i])) return 'separated'
  return sizeOf(path) < size ? 'shortened' : undefined
}

/** Removes what SQLite kept beside a file that is gone, for it would take that for a part of the next one. */
export function removeLeftovers(path: string, { beside }: FileMark): void {
  for (const [i, ending] of endings.entries()) {
    if (beside[i] !== undefined && identityOf(path + ending) === beside[i]) unlinkSync(path + ending)
  }
}

/** Tells a file from another that came in its place; undefined where there is none. */
function identityOf(path: string): string | undefined {
  const stats = statSync(path, { throwIfNoEntry: false })
  return stats && identityIn(stats)
}

function identityIn({ dev, ino }: Stats): string {
  return `${dev} ${ino}`
}

function sizeOf(path: string): number {
  return statSync(path, { throwIfNoEntry: false })?.size ?? 0
}
