import { existsSync as isThere } from 'node:fs'

export { isThere }

/** Where Debian's package puts Chromium. */
export const chromium = '/usr/bin/chromium'

/** Where Debian's package puts Redis. */
export const redisServer = '/usr/bin/redis-server'

export function haveChromium(suite: string): boolean {
  return have(suite, chromium, 'chromium')
}

export function haveRedis(suite: string): boolean {
  return have(suite, redisServer, 'redis-server')
}

/** Where Debian's package puts what gives a command a terminal. */
export const terminal = '/usr/bin/script'

export function haveTerminal(suite: string): boolean {
  return have(suite, terminal, 'bsdutils')
}

/** Whether a suite can run. Where what it needs is missing it is left out, said loudly; with `CI=true` that is a failure. */
function have(suite: string, file: string, debianPackage: string): boolean {
  if (isThere(file)) return true
  const message = `LEFT OUT: ${suite}, for there is no ${file}. Get it with: apt-get install ${debianPackage}`
  if (process.env.CI === 'true') throw new Error(message)
  process.stderr.write(`\n${'!'.repeat(message.length)}\n${message}\n${'!'.repeat(message.length)}\n\n`)
  return false
}
