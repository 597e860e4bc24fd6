import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'

/** A folder for the tests of one suite, removed after them. */
export function temporaryFolder(): (file: string) => string {
  const folder = mkdtempSync(join(tmpdir(), 'stashen-test-'))
  after(() => rmSync(folder, { recursive: true, force: true }))
  return (file) => join(folder, file)
}
