import { byteOrder } from '../../core/ports/entry-pages.js'
import type { EntryPage, EntrySummary } from '../../core/ports/entry-store.js'

/** Entries listed at once, where nothing else is asked for. */
const usualPage = 100

/**
 * Lists entries page by page in the order of their keys, which are sorted once for all pages that follow each other: what comes meanwhile may be
 * missing, what goes is left out.
 */
export class Listing {
  /** What the latest page was of, what it ended with, and the keys that come after it, the next one last. */
  #latest: { readonly of: string; readonly after: string; readonly rest: string[] } | undefined

  /** `keys`: all that a selection means; `summary`: of one of these, if it is there still. */
  page(
    of: string,
    { after, most = usualPage }: { readonly after?: string | undefined; readonly most?: number },
    keys: () => Iterable<string>,
    summary: (key: string) => EntrySummary | undefined,
  ): EntryPage {
    const known = this.#latest && this.#latest.of === of && this.#latest.after === after ? this.#latest.rest : undefined
    const rest = known ?? sortedAfter(keys(), after)
    const entries: EntrySummary[] = []
    while (entries.length < most && rest.length > 0) {
      const entry = summary(rest.pop() as string)
      if (entry) entries.push(entry)
    }
    while (rest.length > 0 && summary(rest.at(-1) as string) === undefined) rest.pop()
    const last = entries.at(-1)
    this.#latest = last && rest.length > 0 ? { of, after: last.key, rest } : undefined
    return { entries, next: rest.length > 0 ? last?.key : undefined }
  }

  forget(): void {
    this.#latest = undefined
  }
}

/** The keys after one, the first of them last. */
function sortedAfter(keys: Iterable<string>, after: string | undefined): string[] {
  const all = [...keys]
  const isPlain = !all.some((key) => /[\ud800-\udfff]/.test(key)) // else the order of characters is not that of bytes in UTF-8
  if (isPlain) all.sort()
  else all.sort(byteOrder)
  const rest = after === undefined ? all : all.slice(all.findIndex((key) => byteOrder(key, after) > 0) >>> 0)
  return rest.reverse()
}
