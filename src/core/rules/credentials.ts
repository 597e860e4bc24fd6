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
  /** Whether it is certain, so that requests which differ in nothing else ask the same: not so for a name such as `key`, which may stand for data. */
  isCertainField(name: string): boolean
  isCertainParameter(name: string): boolean
  /** Whether what goes by a name may be a credential, or say who calls, by the name or by what it looks like: it is written down as a digest only. */
  hides(name: string, value: string): boolean
  /** Whether a name looks like that of a credential and is none of the known ones. */
  isDoubtful(name: string): boolean
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
  ...['password', 'passwd', 'pwd', 'pass', 'pw', 'passphrase', 'credential', 'credentials', 'session', 'session-id', 'sid', 'x-session-id'],
  ...['session-key', 'jsessionid', 'phpsessid', 'hapikey', 'assertion', 'client-assertion', 'user-key', 'auth-code', 'private-token'],
  ...['signature', 'x-signature', 'sig', 'sign', 'hmac', 'x-hmac', 'oauth-*', 'x-amz-*', 'x-goog-api-key'],
  ...['x-goog-signature', 'x-goog-credential', 'x-goog-iam-authorization-token'],
] as const

/** Those of `credentialNames` by which data go as well: a page token, the key of a record, a sign of the zodiac. */
export const ambiguousNames = [
  'auth',
  'token',
  'x-token',
  'key',
  'x-key',
  'secret',
  'credential',
  'session',
  'sid',
  'sign',
  'x-amz-*',
  'oauth-*',
]

/** Those that a pattern among the ambiguous ones covers, and that are certain all the same: signatures, and what goes into them. */
const certainNames = [
  ...[
    'x-amz-signature',
    'x-amz-credential',
    'x-amz-date',
    'x-amz-algorithm',
    'x-amz-expires',
    'x-amz-signedheaders',
    'x-amz-security-token',
  ],
  ...[
    'x-amz-content-sha256',
    'oauth-consumer-key',
    'oauth-nonce',
    'oauth-signature',
    'oauth-signature-method',
    'oauth-timestamp',
    'oauth-token',
  ],
  'oauth-version',
]

type NameTest = (name: string) => boolean

/** Tests names, bare, against a list in which `*` stands for anything. */
function listTest(names: readonly string[]): NameTest {
  const plain = new Set(names.map(bare))
  const prefixes = names.filter((name) => name.endsWith('*')).map((name) => bare(name.slice(0, -1)))
  return (name) => plain.has(name) || prefixes.some((prefix) => name.startsWith(prefix))
}

const [isUsual, isAmbiguous, isCertain] = [listTest(credentialNames), listTest(ambiguousNames), listTest(certainNames)]

/** Words of names by which credentials go. */
const secretWords =
  /^(o?auth|authorization|key|\w*apikey|tokens?|\w*token|jwt|bearer|secrets?|\w*secret|signature|sig|hmac|credentials?|pass|pw|pwd|\w*passw(or)?d|passphrase|\w*session(id|key)?|\w*sessid|sid|cookie|assertion|otp|pin|nonce)$/i

/** Whether one of the words of a name says that a credential goes by it: `X-Crew-Token` and `crewToken`, not `keywords` or `author`. */
const looksSecret = remembered((name) => wordsOf(name).some((word) => secretWords.test(word)))

/** Words of names that say who calls, or on whose behalf. */
const identityWords =
  /^(accounts?|acct|orgs?|organi[sz]ations?|tenants?|projects?|workspaces?|teams?|customers?|clients?|users?|usr|user(name|id)|uid|members?|owners?|subscribers?|subscription|merchants?|seller|partners?|affiliate|roles?|actor|principal|impersonated?|behalf|onbehalfof|delegated?|consumer|caller|email|mail|phone|login|logon|realm|identity|device)$/i

const looksLikeIdentity = remembered((name) => wordsOf(name).some((word) => identityWords.test(word)))

function wordsOf(name: string): string[] {
  return name.replace(/([a-z\d])([A-Z])/g, '$1-$2').split(/[^A-Za-z\d]+/)
}

/** JSON Web Tokens (RFC 7519), whole or without their signature. */
const webToken = /^[\w-]{10,}\.[\w-]{10,}\.[\w-]*$/

/** Long random text: letters and digits in turn, as words and numbers do not have them. */
export function looksRandom(value: string): boolean {
  if (value.length < 16 || value.length > 10_000) return value.length > 16
  if (webToken.test(value)) return true
  if (!/^[\w\-+/=.~]+$/.test(value) || !/\d/.test(value)) return false
  const changes = value.match(/[a-z](?=[A-Z\d])|[A-Z](?=[A-Z]?\d)|\d(?=[A-Za-z])/g)?.length ?? 0
  return changes >= 4
}

export function compileCredentials({ secretQuery = [], secretHeaders = [], notSecret = [] }: CredentialOptions): Credentials {
  const not = listTest(notSecret)
  const usual: NameTest = (name) => isUsual(name) && !not(name)
  const sure: NameTest = (name) => usual(name) && (isCertain(name) || !isAmbiguous(name))
  const either = (own: readonly string[], test: NameTest) => {
    const isOwn = listTest(own)
    return remembered((name) => isOwn(bare(name)) || test(bare(name)))
  }
  return {
    isField: either(secretHeaders, usual),
    isParameter: either(secretQuery, usual),
    isCertainField: either(secretHeaders, sure),
    isCertainParameter: either(secretQuery, sure),
    hides: (name, value) => (looksSecret(name) || looksLikeIdentity(name) || looksRandom(value)) && !not(bare(name)),
    isDoubtful: (name) => looksSecret(name) && !not(bare(name)),
    isCleared: (name) => not(bare(name)),
  }
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
