import type { StoredTimes } from '../../core/decide/entry-times.js'
import type { Entry, EntrySummary } from '../../core/ports/entry-store.js'
import type { Selection } from '../../core/ports/selection.js'
import type { Part } from './link.js'
import { allSlots, slotOf, slotsUnder, spareMs } from './places.js'

/** What an entry takes beside its key, head and body, about, bytes. */
const overhead = 600

/** How often its key stands in the store. */
const keyCopies = 4

/** Whose an entry is, as the scripts know it. */
export function accountOf({ provider, endpoint }: Pick<Entry, 'provider' | 'endpoint'>): string {
  return JSON.stringify([provider, endpoint])
}

interface Account {
  readonly provider: string
  readonly endpoint: string
}

const latestAccounts = new Map<string, Account>()

export function ofAccount(account: string): Account {
  const known = latestAccounts.get(account)
  if (known) return known
  const [provider, endpoint] = JSON.parse(account) as [string, string]
  if (latestAccounts.size >= 1_000) latestAccounts.clear()
  latestAccounts.set(account, { provider, endpoint })
  return { provider, endpoint }
}

/** Stored, born, fresh, refreshable, usable and kept until, in milliseconds since 1970-01-01T00:00Z; must be revalidated, is invalidated: 0 or 1. */
export function timesText(times: StoredTimes): string {
  const { storedAt, bornAt, freshUntil, refreshableUntil, usableUntil, keepUntil, mustRevalidate, invalidated } = times
  return [storedAt, bornAt, freshUntil, refreshableUntil, usableUntil, keepUntil, mustRevalidate ? 1 : 0, invalidated ? 1 : 0].join(' ')
}

export function timesOfText(text: string): StoredTimes {
  const times = text.split(' ')
  return {
    storedAt: Number(times[0]),
    bornAt: Number(times[1]),
    freshUntil: Number(times[2]),
    refreshableUntil: Number(times[3]),
    usableUntil: Number(times[4]),
    keepUntil: Number(times[5]),
    mustRevalidate: times[6] === '1',
    invalidated: times[7] === '1',
  }
}

/** What each label of an entry takes, beside the name of the label, about, bytes: its key stands with it. */
const ofLabel = 150

/** About how many bytes an entry takes in the server. */
function sizeOf({ key, head, body, labels = [] }: Entry): number {
  const keyBytes = Buffer.byteLength(key)
  const ofLabels = labels.reduce((sum, label) => sum + 2 * Buffer.byteLength(label) + keyBytes + ofLabel, 0)
  return body.byteLength + Buffer.byteLength(head) + keyCopies * keyBytes + overhead + ofLabels
}

/** A value as it stands in an entry; nothing where there is none. */
export function jsonText(value: unknown): string {
  return value === undefined ? '' : JSON.stringify(value)
}

/** What the script that puts gets of an entry first: up to when what it drops besides had run out. */
export function putParts(entry: Entry, now: number): Part[] {
  const { key, keepUntil, units, head, body } = entry
  const left = Math.max(0, Math.ceil(keepUntil - now)) + spareMs
  const numbers = [keepUntil, left, sizeOf(entry)].map(String)
  return [key, accountOf(entry), timesText(entry), ...numbers, jsonText(units), head, body, String(now - spareMs)]
}

/** How many texts a row of the script that lists has. */
export const rowLength = 11

/** Labels as they stand in an entry; nothing where it has none. */
export function labelsText(labels: Entry['labels']): string {
  return labels?.length === 0 ? '' : jsonText(labels)
}

/** In the order of `entryOf`. */
export const entryFields = ['account', 'times', 'units', 'labels', 'price', 'head', 'body'] as const

/** What holds anything else than an entry comes with what of it can be read: whoever uses it sees that it is none. */
export function entryOf(key: string, [account, times, units, labels, price, head, body]: readonly (Buffer | null)[]): Entry | undefined {
  if (!account || !times || !body) return undefined
  const owner = orNothing(() => ofAccount(account.toString()))
  if (!owner) return { key } as Entry
  const { provider, endpoint } = owner
  return Object.assign(timesOfText(times.toString()), {
    key,
    provider,
    endpoint,
    units: orNothing(() => jsonOf<Entry['units']>(String(units ?? ''))),
    labels: orNothing(() => jsonOf<Entry['labels']>(String(labels ?? ''))),
    price: orNothing(() => jsonOf<Entry['price']>(String(price ?? ''))),
    head: String(head ?? ''),
    body: new Uint8Array(body.buffer, body.byteOffset, body.byteLength),
  })
}

/** Of a row of the script that lists. */
export function summaryOf([
  key = '',
  account = '',
  times = '',
  units = '',
  labels = '',
  price = '',
  head = '',
  bytes,
  uses = '',
  saved = '',
  usedAt = '',
]: readonly string[]): EntrySummary {
  const given = Number(uses)
  const { provider, endpoint } = orNothing(() => ofAccount(account)) ?? { provider: '', endpoint: '' }
  return {
    ...{ key, provider, endpoint, ...timesOfText(times) },
    units: orNothing(() => jsonOf<Entry['units']>(units)),
    labels: orNothing(() => jsonOf<Entry['labels']>(labels)),
    price: orNothing(() => jsonOf<Entry['price']>(price)),
    ...{ head, bytes: Number(bytes) },
    usage: given > 0 ? { times: given, saved: Number(saved), lastAt: Number(usedAt) } : undefined,
  }
}

function jsonOf<T>(text: string): T | undefined {
  return text === '' ? undefined : (JSON.parse(text) as T)
}

function orNothing<T>(read: () => T): T | undefined {
  try {
    return read()
  } catch {
    return undefined
  }
}

/** A selection as the scripts know it, and the slots in which its entries may be. */
export interface Meant {
  readonly kind: 'key' | 'under' | 'path' | 'label' | 'endpoint' | 'provider' | 'all'
  readonly name: string
  readonly slots: readonly number[]
}

export function meantBy(selection: Selection): Meant {
  if ('all' in selection) return { kind: 'all', name: '', slots: allSlots }
  if ('key' in selection) return { kind: 'key', name: selection.key, slots: [slotOf(selection.key)] }
  if ('under' in selection) return { kind: 'under', name: selection.under, slots: slotsUnder(selection.under) }
  if ('path' in selection) return { kind: 'path', name: `${selection.path}?`, slots: allSlots }
  if ('label' in selection) return { kind: 'label', name: selection.label, slots: allSlots }
  const { provider, endpoint } = selection
  if (endpoint !== undefined) return { kind: 'endpoint', name: accountOf({ provider, endpoint }), slots: allSlots }
  return { kind: 'provider', name: `[${JSON.stringify(provider)},`, slots: allSlots }
}

/** What a script gives in turn. */
export function pairs(texts: readonly string[]): [string, string][] {
  return Array.from({ length: texts.length / 2 }, (_, i) => [texts[2 * i] as string, texts[2 * i + 1] as string])
}
