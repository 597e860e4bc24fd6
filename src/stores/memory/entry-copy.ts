import type { StoredTimes } from '../../core/decide/entry-times.js'
import type { Entry } from '../../core/ports/entry-store.js'

/** What counts the uses of an entry. */
export interface UsageCount {
  countUse(now: number, isSaving: boolean): void
}

/** An entry as it is handed out, which knows where its uses are counted, so that nothing has to be looked up for that. */
export class EntryCopy implements Entry {
  readonly key: string
  readonly provider: string
  readonly endpoint: string
  readonly storedAt: number
  readonly bornAt: number
  readonly freshUntil: number
  readonly refreshableUntil: number
  readonly usableUntil: number
  readonly keepUntil: number
  readonly mustRevalidate: boolean
  readonly invalidated: boolean
  readonly head: string
  readonly body: Uint8Array
  readonly units: Entry['units']
  readonly price: Entry['price']
  readonly labels: Entry['labels']
  memo: unknown = undefined
  readonly #count: UsageCount

  constructor(
    count: UsageCount,
    {
      key,
      provider,
      endpoint,
      times,
      head,
      units,
      price,
      labels,
    }: Omit<Entry, 'body' | 'memo' | keyof StoredTimes> & { times: StoredTimes },
    body: Uint8Array,
  ) {
    this.key = key
    this.provider = provider
    this.endpoint = endpoint
    this.storedAt = times.storedAt
    this.bornAt = times.bornAt
    this.freshUntil = times.freshUntil
    this.refreshableUntil = times.refreshableUntil
    this.usableUntil = times.usableUntil
    this.keepUntil = times.keepUntil
    this.mustRevalidate = times.mustRevalidate
    this.invalidated = times.invalidated
    this.head = head
    this.body = body
    this.units = units
    this.price = price
    this.labels = labels
    this.#count = count
  }

  /** What counts the uses of an entry that was handed out. */
  static countOf(entry: Entry): UsageCount | undefined {
    return #count in entry ? entry.#count : undefined
  }
}
