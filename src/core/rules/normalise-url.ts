/**
 * Percent-encoding in one form (RFC 3986 sections 6.2.2.1 and 6.2.2.2): hexadecimal digits in capitals, and unreserved characters not
 * encoded. `URL` does the rest of section 6 itself: case of scheme and host, default port, dot segments.
 */
export function normalisePercent(text: string): string {
  if (!text.includes('%')) return text
  return text.replace(/%[0-9a-f]{2}/gi, (encoded) => {
    const character = String.fromCharCode(Number.parseInt(encoded.slice(1), 16))
    return /[\w.~-]/.test(character) ? character : encoded.toUpperCase()
  })
}

/** A parameter of a path's segment (RFC 3986 section 3.3), as `;jsessionid=...` is one. */
export const pathParameter = /;([^\s"'<>=?&#;,/]+)=[^\s"'<>&#?;,/]*/g

/** A query parameter: its name decoded, and its text normalised. */
export interface Parameter {
  readonly name: string
  readonly text: string
}

/** The parameters of a query in the order of their names; those of one name keep theirs. */
export function sortedParameters(url: URL): Parameter[] {
  if (url.search === '') return []
  const parameters = url.search
    .slice(1)
    .split('&')
    .map((raw) => {
      const text = normalisePercent(raw)
      const end = text.indexOf('=')
      return { name: decoded(end < 0 ? text : text.slice(0, end)), text }
    })
  return parameters.length === 1 ? parameters : parameters.sort((a, b) => (a.name < b.name ? -1 : a.name > b.name ? 1 : 0))
}

/** A name or a value of a query, as `application/x-www-form-urlencoded` has it; as it stands where that cannot be decoded. */
export function decoded(text: string): string {
  if (!/[%+]/.test(text)) return text
  try {
    return decodeURIComponent(text.replaceAll('+', ' '))
  } catch {
    return text
  }
}
