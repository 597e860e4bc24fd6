import { isStashenError } from './stashen-error.js'

/**
 * What an error is, in words that may be written down, without what to do about it: messages of others can hold a URL with a credential in it, so of their errors only
 * name and code are told, and those of their causes.
 */
export function errorText(error: unknown): string {
  if (isStashenError(error)) return (error as Error).message.split(/[;:] /)[0] as string
  const codes = [codeOf(error), codeOf((error as { cause?: unknown } | undefined)?.cause)].filter((code) => code !== undefined)
  return `${error instanceof Error ? error.name : typeof error}${codes.length > 0 ? ` (${codes.join(', ')})` : ''}`
}

/** A short name of an error for counting, such as `ECONNREFUSED` or `UPSTREAM_TIMEOUT`. */
export function errorKind(error: unknown): string {
  return codeOf(error) ?? codeOf((error as { cause?: unknown } | undefined)?.cause) ?? (error instanceof Error ? error.name : typeof error)
}

function codeOf(error: unknown): string | undefined {
  const code = (error as { code?: unknown } | undefined | null)?.code
  return typeof code === 'string' && /^[\w-]{1,60}$/.test(code) ? code : undefined
}
