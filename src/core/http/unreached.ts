/** Errors by which a connection was not made: names that do not resolve, refused and unreachable addresses, a dispatcher that was closed before. */
const notConnected =
  /^(ENOTFOUND|EAI_\w+|ECONNREFUSED|EHOSTUNREACH|ENETUNREACH|EADDRNOTAVAIL|UND_ERR_CONNECT_TIMEOUT|UND_ERR_INVALID_ARG|UND_ERR_NOT_SUPPORTED|UND_ERR_CLOSED)$/

/** Errors by which no TLS was agreed on, of OpenSSL and of Node. */
const notAgreed =
  /^(ERR_SSL_\w+|ERR_TLS_\w+|CERT_\w+|\w*_CERT|\w*_CERT_\w+|UNABLE_TO_\w+|HOSTNAME_MISMATCH|INVALID_CA|INVALID_PURPOSE|EPROTO)$/

interface Failure {
  readonly code?: unknown
  readonly cause?: unknown
  readonly errors?: unknown
  readonly message?: unknown
  readonly hostname?: unknown
  readonly address?: unknown
  readonly port?: unknown
}

/**
 * Whether an error of `fetch` says for certain that the provider saw nothing of the call: no connection to it was made, or no TLS was agreed on. What failed after
 * a redirect is not certain, nor is a timeout or a connection that broke.
 */
export function neverReached(error: unknown, url: URL): boolean {
  return says(error, url, 0)
}

function says(error: unknown, url: URL, depth: number): boolean {
  if (typeof error !== 'object' || error === null || depth > 4) return false
  const { code, cause, errors } = error as Failure
  if (Array.isArray(errors) && errors.length > 0) return errors.every((one) => says(one, url, depth + 1))
  if (typeof code === 'string') {
    if (notAgreed.test(code)) return url.protocol === 'https:'
    if (notConnected.test(code)) return isOf(error as Failure, url)
  }
  if (isBadPort(error as Failure, url)) return true
  return cause !== undefined && says(cause, url, depth + 1)
}

/** Whether an error is of the asked host, as far as it says: not of one that a redirect led to. */
function isOf({ hostname, address, port, message }: Failure, url: URL): boolean {
  const host = url.hostname.replace(/^\[|\]$/g, '')
  const usual = url.protocol === 'https:' ? 443 : 80
  if (typeof hostname === 'string' && hostname !== host) return false
  if (typeof port === 'number' && port !== Number(url.port || usual)) return false
  if (typeof address === 'string' && /^[\d.]+$|:/.test(host) && address !== host) return false
  const [, attempted] = typeof message === 'string' ? (/attempted address(?:es)?: (.+?), timeout/.exec(message) ?? []) : []
  return attempted === undefined || attempted.split(', ').every((one) => !/:\d+$/.test(one) || one.endsWith(`:${url.port || usual}`))
}

/** Ports that `fetch` calls nowhere (Fetch Standard, section 2.9): it does not say which, so a redirect from an ordinary port is left out. */
function isBadPort({ message }: Failure, { port }: URL): boolean {
  return message === 'bad port' && port !== ''
}
