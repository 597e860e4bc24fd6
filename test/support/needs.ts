import { existsSync } from 'node:fs'

/** Where Debian's package puts Chromium. */
export const chromium = '/usr/bin/chromium'

/**
 * Whether the browser tests can run. Where Chromium is missing they are left out, said loudly; with `CI=true` that is a failure.
 */
export function haveChromium(suite: string): boolean {
  if (existsSync(chromium)) return true
  const message = `LEFT OUT: ${suite}, for there is no ${chromium}. Get it with: apt-get install chromium`
  if (process.env.CI === 'true') throw new Error(message)
  process.stderr.write(`\n${'!'.repeat(message.length)}\n${message}\n${'!'.repeat(message.length)}\n\n`)
  return false
}
