import { expiredTimes } from '../core/decide/entry-times.js'
import { keyMeasuredBy, measuredKey, measuredUntil } from '../core/entries/measured-entry.js'
import { compileSelector, type EntrySelector, isAnswer, type Selected } from '../core/entries/selector.js'
import { type StoredEntry, storedEntry } from '../core/entries/stored-entry.js'
import { fieldValue, type StoredHead } from '../core/http/stored-head.js'
import { inPieces, Turns } from '../core/in-pieces.js'
import type { Clock } from '../core/ports/clock.js'
import type { Entry, EntryStore, EntrySummary } from '../core/ports/entry-store.js'
import type { Selection } from '../core/ports/selection.js'
import type { Store } from '../core/ports/store.js'
import type { EndpointSize } from '../core/ports/store-status.js'
import { AtOnce } from './at-once.js'

/** Entries that are read at once. */
const pageOf = 200

/** The stored answers that a selector means, in the order of their keys, as they are at `now`. */
export function readEntries(store: Pick<Store, 'entries'>, selector: EntrySelector, now: number): AsyncIterable<StoredEntry> {
  const { selection, matches } = compileSelector(selector)
  return storedEntries(allEntries(store.entries, selection), (entry) => matches(entry, now), now)
}

async function* storedEntries(
  entries: AsyncIterable<EntrySummary>,
  isMeant: (entry: EntrySummary) => boolean,
  now: number,
): AsyncGenerator<StoredEntry> {
  for await (const entry of entries) if (isMeant(entry)) yield storedEntry(entry, now)
}

/** What becomes of entries: their freshness ends, or they are gone. */
export type EntryChange = 'invalidate' | 'purge'

interface Changing {
  readonly store: Pick<Store, 'entries'>
  readonly clock: Pick<Clock, 'later' | 'ticks'>
  readonly now: number
  /** Whether it is only said how many it would be. */
  readonly dryRun: boolean
  /** Told how many were gone through so far. */
  readonly onProgress?: (done: number) => void
}

/** Changes of entries under way at once, of a store that takes its time. */
const mostAtOnce = 64

/** Changes the stored answers that a selector means, and lets others come between; returns how many these are. */
export async function changeEntries(
  change: EntryChange,
  selector: EntrySelector,
  { store: { entries }, clock, now, dryRun, onProgress }: Changing,
): Promise<number> {
  const { selection, isExact, matches, isOfAll, mayMean } = compileSelector(selector)
  const turns = new Turns(clock)
  const changes = new AtOnce(mostAtOnce)
  const changing = { entries, mayMean, now }
  let [count, seen] = [0, 0]
  if (!dryRun) void entries.claims?.drop(selection)
  for await (const entry of allEntries(entries, selection)) {
    await turns.next()
    onProgress?.(++seen)
    if (!matches(entry, now)) {
      if (!dryRun && isOfAll) await changeMeasured(change, entry, changing)
      continue
    }
    count++
    if (dryRun || (change === 'purge' && isExact)) continue
    await changes.take(
      change === 'invalidate' ? entries.updateTimes(entry.key, expiredTimes(entry, now)) : entries.remove({ key: entry.key }),
    )
  }
  await changes.done()
  if ('key' in selection && isOfAll && !dryRun)
    for await (const entry of allEntries(entries, { key: measuredKey(selection.key) })) await changeMeasured(change, entry, changing)
  if (change === 'purge' && isExact && !dryRun) await removeAll(entries, selection, clock)
  return count
}

/** What was measured ends as the answer would have that it is of. */
async function changeMeasured(
  change: EntryChange,
  entry: EntrySummary,
  { entries, mayMean, now }: { readonly entries: EntryStore; readonly mayMean: Selected['mayMean']; readonly now: number },
): Promise<void> {
  const key = keyMeasuredBy(entry.key)
  if (key === undefined || !mayMean({ ...entry, key })) return
  const measured = change === 'invalidate' ? measuredUntil(entry, now) : undefined
  if (measured) await entries.put(measured, now)
  else await entries.remove({ key: entry.key })
}

/** With what says where the variants of answers are. */
async function removeAll(entries: EntryStore, selection: Selection, clock: Pick<Clock, 'later'>): Promise<void> {
  await inPieces(
    clock,
    () => entries.remove(selection),
    ({ more }) => more,
  )
}

/** Drops what is not worth keeping any more; returns how many entries these are. */
export async function sweepEntries(
  { entries }: Pick<Store, 'entries'>,
  clock: Pick<Clock, 'later'>,
  now: number,
  onProgress?: (dropped: number) => void,
): Promise<number> {
  let count = 0
  const piece = async () => {
    const dropped = await entries.sweep(now)
    count += dropped.entries
    onProgress?.(count)
    return dropped
  }
  await inPieces(clock, piece, ({ more }) => more)
  return count
}

export async function* allEntries(entries: EntryStore, selection: Selection): AsyncGenerator<EntrySummary> {
  let after: string | undefined
  do {
    const page = await entries.list(selection, { after, most: pageOf })
    yield* page.entries
    after = page.next
  } while (after !== undefined)
}

/** What is stored of each endpoint, most bytes first. */
export async function sizesByEndpoint(
  { entries }: Pick<Store, 'entries'>,
  clock: Pick<Clock, 'later' | 'ticks'>,
  onProgress?: (done: number) => void,
): Promise<EndpointSize[]> {
  const turns = new Turns(clock)
  let seen = 0
  const sizes = new Map<string, { -readonly [Name in keyof EndpointSize]: EndpointSize[Name] }>()
  for await (const entry of allEntries(entries, { all: true })) {
    await turns.next()
    onProgress?.(++seen)
    if (!isAnswer(entry)) continue
    const { provider, endpoint } = entry
    const name = JSON.stringify([provider, endpoint])
    const size = sizes.get(name) ?? { provider, endpoint, entries: 0, bytes: 0 }
    size.entries++
    size.bytes += entry.bytes
    sizes.set(name, size)
  }
  return [...sizes.values()].sort((one, other) => other.bytes - one.bytes)
}

/** A stored answer with its body; undefined where there is none. */
export async function readEntry(
  store: Pick<Store, 'entries'>,
  key: string,
  now: number,
): Promise<{ entry: StoredEntry; fields: StoredHead['fields']; body: string | undefined; bytes: Uint8Array } | undefined> {
  const found = await store.entries.get(key)
  if (!found || !isAnswer(found)) return undefined
  const { body, ...rest } = found
  const fields = found.head.startsWith('{') ? (JSON.parse(found.head) as StoredHead).fields : []
  const [listed] = (await store.entries.list({ key })).entries // which says how it was used
  const entry = storedEntry({ ...rest, bytes: body.byteLength, usage: listed?.usage, layer: listed?.layer }, now)
  return { entry, fields, body: bodyText(found, fieldValue(fields, 'content-type')), bytes: body }
}

/** What can be shown of a body: JSON with its lines, other text as it is; undefined where it is no text. */
function bodyText({ head, body }: Pick<Entry, 'head' | 'body'>, type: string | undefined): string | undefined {
  const isHttp = head.startsWith('{')
  if (!isHttp && head !== '') return undefined
  if (
    isHttp &&
    type !== undefined &&
    !/^\s*(text\/|application\/([\w.+-]*[+])?(json|xml|yaml|graphql|javascript|x-www-form-urlencoded)\b)/i.test(type)
  )
    return undefined
  let text: string
  try {
    text = new TextDecoder('utf-8', { fatal: true }).decode(body)
  } catch {
    return undefined
  }
  if (isHttp && !/\bjson\b/i.test(type ?? '')) return text
  try {
    return JSON.stringify(JSON.parse(text), null, 2)
  } catch {
    return text
  }
}
