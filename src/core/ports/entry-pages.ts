import type { EntryPage, EntrySummary } from './entry-store.js'

/** Entries listed at once, where nothing else is asked for. */
const usualPage = 100

/** A page of entries that are all at hand, in any order. */
export function pageOf(
  entries: readonly EntrySummary[],
  { after, most = usualPage }: { readonly after?: string | undefined; readonly most?: number } = {},
): EntryPage {
  const keyed = entries.map((entry) => ({ entry, bytes: encoder.encode(entry.key) })).sort((a, b) => order(a.bytes, b.bytes))
  const start = after === undefined ? undefined : encoder.encode(after)
  const rest = start ? keyed.filter(({ bytes }) => order(bytes, start) > 0) : keyed
  const page = rest.slice(0, most).map(({ entry }) => entry)
  return { entries: page, next: rest.length > most ? page.at(-1)?.key : undefined }
}

/** The order of UTF-8 bytes. */
function order(one: Uint8Array, other: Uint8Array): number {
  const length = Math.min(one.length, other.length)
  for (let i = 0; i < length; i++) if (one[i] !== other[i]) return (one[i] as number) - (other[i] as number)
  return one.length - other.length
}

const encoder = new TextEncoder()

/** The order of two keys in a list: that of their bytes in UTF-8. */
export function byteOrder(one: string, other: string): number {
  return order(encoder.encode(one), encoder.encode(other))
}
