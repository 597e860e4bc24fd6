/** Header fields as name and value, repeated fields as pairs of their own. */
export type Fields = readonly (readonly [string, string])[]

/** What of an HTTP answer stands beside its body. */
export interface StoredHead {
  readonly status: number
  readonly statusText: string
  readonly fields: Fields
}

/** Fields that belong to one connection (RFC 9110 section 7.6.1) and are not stored (RFC 9111 section 3.1). */
const connectionFields = [
  'connection',
  'keep-alive',
  'proxy-authenticate',
  'proxy-authentication-info',
  'proxy-authorization',
  'proxy-connection',
  'te',
  'transfer-encoding',
  'upgrade',
]

/** Fields that speak of the body as it was sent, which `fetch` has decoded by the time we see it. */
const codingFields = ['content-encoding', 'content-length']

/** The fields as they hold for a body that `fetch` has read and decoded. */
export function fieldsOfDecoded(fields: Fields): Fields {
  return without(fields, fields.some(([name]) => name === 'content-encoding') ? codingFields : [])
}

/** The fields that may be given to another call: without those of the connection, cookies set for the first caller, and the age. */
export function reusableFields(fields: Fields): Fields {
  const named = fields.filter(([name]) => name === 'connection').flatMap(([, value]) => value.toLowerCase().split(/\s*,\s*/))
  return without(fields, [...connectionFields, ...named, 'set-cookie', 'age', 'cache-status'])
}

function without(fields: Fields, names: readonly string[]): Fields {
  return fields.filter(([name]) => !names.includes(name))
}
