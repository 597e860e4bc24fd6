import type { EntryPage, EntrySummary } from './entry-store.js'

/** Entries listed at once, where nothing else is asked for. */
const usualPage = 100

/** A page of entries that are all at hand, in any order. */
export function pageOf(
  entries: readonly EntrySummary[],
  { after, most = usualPage }: { readonly after?: string | undefined; readonly most?: number } = {},
): EntryPage {
  const rest = after === undefined ? [...entries] : entries.filter(({ key }) => byteOrder(key, after) > 0)
  const page = rest.sort((one, other) => byteOrder(one.key, other.key)).slice(0, most)
  return { entries: page, next: rest.length > most ? page.at(-1)?.key : undefined }
}

/** The order of two keys in a list: that of their bytes in UTF-8, which is that of their code points. */
export function byteOrder(one: string, other: string): number {
  const length = Math.min(one.length, other.length)
  for (let i = 0; i < length; i++) {
    const [its, others] = [one.charCodeAt(i), other.charCodeAt(i)]
    if (its !== others) return rank(its) - rank(others)
  }
  return one.length - other.length
}

/** Where a code unit of UTF-16 stands: surrogates are parts of code points above all others. */
function rank(unit: number): number {
  if (unit < 0xd800) return unit
  return unit < 0xe000 ? unit + 0x2000 : unit - 0x800
}
