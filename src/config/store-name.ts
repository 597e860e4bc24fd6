/** What names a store. */
export const storeForm = 'a file, or redis://HOST:PORT[/DATABASE][?prefix=PREFIX]'

/** Whether a store is named by where it is on a network, not by its file. */
export function isAddress(named: string): boolean {
  return /^[a-z][a-z0-9+.-]+:\/\//i.test(named)
}

/** The name of a store without a password. */
export function nameWithoutPassword(named: string): string {
  if (!isAddress(named)) return named
  if (!URL.canParse(named)) return named.replace(/\/\/.*@/, '//')
  const url = new URL(named)
  url.password = ''
  return url.href
}
