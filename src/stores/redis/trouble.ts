import { StoreError } from '../../core/errors/setup-errors.js'

/** What an error of a server or connection most likely comes from, and what to do: by the begin of its message, or its code. */
const causes: readonly [begins: RegExp, what: string][] = [
  [/^ECONNREFUSED|ECONNREFUSED/, 'nothing listens there: start the server, or correct host and port'],
  [/ENOTFOUND|EAI_AGAIN/, 'no such host is known: correct its name'],
  [/ETIMEDOUT|EHOSTUNREACH|ENETUNREACH|[Tt]imeout/, 'it cannot be reached: check address, network and firewall'],
  [/^NOAUTH/, 'it wants a password: give one with "password" or STASHEN_REDIS_PASSWORD'],
  [/^WRONGPASS|invalid username-password|^ERR AUTH/, 'it does not take this user and password: correct them'],
  [/^NOPERM/, 'this user may not do that: allow it all commands on the keys of the prefix'],
  [/^ERR (invalid DB|DB) index|out of range/, 'it has no such database: name another one'],
  [/^ERR SELECT is not allowed/, 'a cluster has only database 0: leave the database out'],
  [/^MOVED|^CLUSTERDOWN|^CROSSSLOT/, 'it belongs to a cluster: pass a client made with createCluster as "client"'],
  [/^READONLY/, 'it is a replica, which only reads: name its primary'],
  [/^OOM/, 'its memory is full, and it evicts nothing: give it more, or another maxmemory-policy'],
  [/^MISCONF/, 'it cannot save its data, and takes no changes therefore: look at its log and its disk'],
  [/^LOADING/, 'it is still loading its data: wait, or try again'],
  [
    /^ERR unknown command|^ERR Protocol|Protocol error|wrong version number|SSL|TLS|ECONNRESET|[Ss]ocket closed/,
    'what listens there does not speak Redis, or only with TLS (rediss://), or only without',
  ],
]

/** The error that a store cannot be opened with; the message has no password in it. */
export function openingError(where: string, cause: unknown, host: string): StoreError {
  const text = textOf(cause)
  const known = causes.find(([begins]) => begins.test(text))?.[1]
  const isLocal = /^(localhost|127\.\d+\.\d+\.\d+|::1)$/.test(host)
  const hint = isLocal && /ECONNREFUSED/.test(text) ? '; in a container, "localhost" is the container itself' : ''
  return new StoreError(`store "${where}" cannot be used: ${known ? `${known}${hint} (${short(text)})` : short(text)}`, { cause })
}

function textOf(cause: unknown): string {
  if (!(cause instanceof Error)) return String(cause)
  const { code, errors } = cause as { code?: string; errors?: unknown[] }
  const inner = errors?.[0] instanceof Error ? (errors[0] as Error & { code?: string }) : undefined
  const message = cause.message || inner?.message || ''
  return message.includes(String(code)) || !code ? message || String(inner?.code ?? cause.name) : `${code} ${message}`
}

function short(text: string): string {
  return text.split('\n')[0]?.slice(0, 200) ?? ''
}
