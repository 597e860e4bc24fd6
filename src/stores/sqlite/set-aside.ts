import { closeSync, existsSync, openSync, readSync, renameSync } from 'node:fs'
import { StoreError } from '../../core/errors/setup-errors.js'
import { applicationId } from './tables.js'

/** The first bytes of every SQLite file, and where the application that it belongs to stands (sqlite.org/fileformat2.html). */
const magic = 'SQLite format 3\0'
const applicationIdAt = 68

/** Whether a file that could not be used is one of ours that is corrupt, and not another's or none. */
export function isCorrupt(file: string, error: { readonly cause?: unknown; readonly message: string }): boolean {
  return error.cause !== undefined && /is corrupt|is not a Stashen store/.test(error.message) && isOurs(file)
}

/** Whether a file says in its head that it is a store of ours, whatever the rest of it is. */
function isOurs(file: string): boolean {
  const head = Buffer.alloc(100)
  try {
    const handle = openSync(file, 'r')
    try {
      readSync(handle, head, 0, head.byteLength, 0)
    } finally {
      closeSync(handle)
    }
  } catch {
    return false
  }
  return head.toString('latin1', 0, magic.length) === magic && head.readUInt32BE(applicationIdAt) === applicationId
}

/** Gives a store file that is no use, and what belongs to it, another name; returns that. Throws `StoreError` where it cannot. */
export function setAside(file: string, now: number): string {
  const aside = `${file}.corrupt-${new Date(now).toISOString().replace(/[:.]/g, '-')}`
  try {
    for (const ending of ['-wal', '-shm', '']) if (existsSync(file + ending)) renameSync(file + ending, aside + ending)
  } catch (cause) {
    throw new StoreError(`store "${file}" is corrupt and cannot be renamed to "${aside}": check the permissions of its folder`, { cause })
  }
  return aside
}
