/** One asked part of a body: first and last byte, or `out-of-reach` where the body has none of it. */
export type ByteRange = { readonly first: number; readonly last: number } | 'out-of-reach'

/** The one range of bytes that a `Range` field asks for (RFC 9110 section 14.1.2); undefined for several, and for anything else. */
export function byteRange(range: string, length: number): ByteRange | undefined {
  const [, from = '', to = ''] = /^bytes=\s*(\d*)-(\d*)\s*$/i.exec(range) ?? []
  if (from === '' && to === '') return undefined
  if (from === '') return Number(to) === 0 || length === 0 ? 'out-of-reach' : { first: Math.max(0, length - Number(to)), last: length - 1 }
  if (to !== '' && Number(to) < Number(from)) return undefined
  if (Number(from) >= length) return 'out-of-reach'
  return { first: Number(from), last: to === '' ? length - 1 : Math.min(Number(to), length - 1) }
}
