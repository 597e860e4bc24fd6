import { existsSync, mkdtempSync, renameSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { dirname, join } from 'node:path'
import { type Browser, type BrowserServer, chromium as driver } from 'playwright-core'
import { chromium, isThere } from './needs.js'

const launching = {
  executablePath: chromium,
  args: [
    '--headless',
    '--no-sandbox',
    '--disable-gpu',
    '--disable-quic',
    '--no-first-run',
    '--disable-background-networking',
    '--disable-component-update',
    '--disable-sync',
  ],
}

/** Where the browser is that all suites of a run share, and a folder for what they make once. */
const variables = { browser: 'STASHEN_TEST_BROWSER', folder: 'STASHEN_TEST_FOLDER' }

/** The browser of this run; each suite has contexts of its own in it. One of its own where some files alone are tested. */
export function browserOfRun(): Promise<Browser> {
  const endpoint = process.env[variables.browser]
  return endpoint === undefined ? driver.launch(launching) : driver.connect(endpoint)
}

/** A file that the first suite makes that needs it, and the others find. */
export function madeOnce(name: string, make: (folder: string) => void): string {
  const file = join(process.env[variables.folder] ?? ownFolder(), name)
  if (existsSync(file)) return file
  const own = mkdtempSync(join(dirname(file), 'making-'))
  make(own)
  renameSync(join(own, name), file)
  return file
}

function ownFolder(): string {
  const folder = mkdtempSync(folderName)
  process.once('exit', () => rmSync(folder, { recursive: true }))
  return folder
}

const folderName = join(tmpdir(), 'stashen-suites-')

let server: BrowserServer | undefined

export async function mochaGlobalSetup(): Promise<void> {
  const isWhole = !process.argv.some((arg) => /\w\.test\.js$/.test(arg)) // but a pattern of all
  if (!isWhole) return
  process.env[variables.folder] = mkdtempSync(folderName)
  if (!isThere(chromium)) return
  server = await driver.launchServer(launching)
  process.env[variables.browser] = server.wsEndpoint()
}

export async function mochaGlobalTeardown(): Promise<void> {
  await server?.close()
  const folder = process.env[variables.folder]
  if (folder !== undefined) rmSync(folder, { recursive: true })
}
