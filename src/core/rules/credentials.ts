/** How credentials are told from other parts of a request, by their names, and who calls where they do not say. */
export interface CredentialOptions {
  /** Query parameters that carry a credential, besides the usual ones (`credentialNames`). */
  readonly secretQuery?: readonly string[]
  /** Header fields that carry a credential, besides the usual ones (`credentialNames`). */
  readonly secretHeaders?: readonly string[]
  /** Names among the usual ones that carry none here. */
  readonly notSecret?: readonly string[]
}

/** Says of names whether what goes by them is a credential. */
export interface Credentials {
  isField(name: string): boolean
  isParameter(name: string): boolean
  /** Whether a name is said to be that of no credential. */
  isCleared(name: string): boolean
}

/**
 * The names by which APIs commonly take credentials in header fields and query parameters. Case, hyphens and underscores do not count; `*`
 * stands for anything.
 */
export const credentialNames = [
  ...['authorization', 'proxy-authorization', 'x-authorization', 'cookie', 'auth', 'x-auth', 'auth-token', 'x-auth-token', 'auth-key'],
  ...['token', 'x-token', 'access-token', 'x-access-token', 'id-token', 'refresh-token', 'session-token', 'csrf-token', 'x-csrf-token'],
  ...['bearer', 'jwt', 'key', 'x-key', 'api-key', 'x-api-key', 'api-token', 'x-api-token', 'app-key', 'x-app-key', 'app-token', 'appid'],
  ...['access-key', 'access-key-id', 'aws-access-key-id', 'subscription-key', 'ocp-apim-subscription-key', 'license-key', 'key-pair-id'],
  ...['secret', 'x-secret', 'api-secret', 'app-secret', 'client-secret', 'secret-key', 'private-key', 'consumer-secret', 'consumer-key'],
  ...['password', 'passwd', 'pwd', 'passphrase', 'credential', 'credentials', 'session', 'session-id', 'sid', 'x-session-id'],
  ...['signature', 'x-signature', 'sig', 'sign', 'hmac', 'x-hmac', 'oauth-*', 'x-amz-*', 'x-goog-api-key'],
  ...['x-goog-signature', 'x-goog-credential', 'x-goog-iam-authorization-token'],
] as const

const [plainNames, prefixes] = [new Set<string>(), [] as string[]]
for (const name of credentialNames) {
  if (name.endsWith('*')) prefixes.push(bare(name.slice(0, -1)))
  else plainNames.add(bare(name))
}

/** Names of fields that may carry credentials, whatever a provider calls them. */
const suspicious = /auth|cookie|key|token|secret|sign|credential|passw|session/i

/** Whether a credential may go by a name: whoever is wrong about that writes a digest where the value could stand. */
export function mayBeSecret(name: string): boolean {
  return suspicious.test(name)
}

/** Words of names by which credentials go. */
const tellingWords =
  /^(o?auth|authorization|key|apikey|tokens?|jwt|bearer|secrets?|signature|sig|hmac|credentials?|password|passwd|session|cookie)$/i

/** Whether one of the words of a name says that a credential goes by it: `X-Crew-Token` and `crewToken`, not `keywords` or `author`. */
export const looksSecret = remembered((name) =>
  name
    .replace(/([a-z\d])([A-Z])/g, '$1-$2')
    .split(/[^A-Za-z\d]+/)
    .some((word) => tellingWords.test(word)),
)

export function compileCredentials({ secretQuery = [], secretHeaders = [], notSecret = [] }: CredentialOptions): Credentials {
  const not = new Set(notSecret.map(bare))
  return { isField: namesTest(secretHeaders, not), isParameter: namesTest(secretQuery, not), isCleared: (name) => not.has(bare(name)) }
}

function namesTest(own: readonly string[], not: ReadonlySet<string>): (name: string) => boolean {
  const also = new Set(own.map(bare))
  return remembered((name) => {
    const text = bare(name)
    return also.has(text) || (!not.has(text) && (plainNames.has(text) || prefixes.some((prefix) => text.startsWith(prefix))))
  })
}

/** Names whose test is remembered, at the most. */
const mostNames = 1_000

function remembered(test: (name: string) => boolean): (name: string) => boolean {
  const known = new Map<string, boolean>()
  return (name) => {
    let is = known.get(name)
    if (is === undefined) {
      is = test(name)
      if (known.size >= mostNames) known.clear()
      known.set(name, is)
    }
    return is
  }
}

/** A name without what does not count in it. */
function bare(name: string): string {
  return name.toLowerCase().replace(/[-_]/g, '')
}
