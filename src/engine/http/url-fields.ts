import type { Fields } from '../../core/http/stored-head.js'

/** Fields that hold the URL of an answer (RFC 9110 sections 8.7 and 10.2.2), which may repeat the credentials of a query. */
const urlFields = ['location', 'content-location']

/** Fields as they are stored: without the credentials in the queries of URLs, also of relative ones. */
export function withoutSecretsIn(fields: Fields, withoutSecrets: (url: string) => string): Fields {
  return fields.map(([name, value]) => {
    const at = urlFields.includes(name) ? value.indexOf('?') : -1
    return at < 0 ? [name, value] : [name, value.slice(0, at) + withoutSecrets(anyPlace + value.slice(at)).slice(anyPlace.length)]
  })
}

/** A place that queries can be put behind to be read. */
const anyPlace = 'https://query.invalid/'
