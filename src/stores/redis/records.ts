import { randomUUID } from 'node:crypto'
import type { SharedRecord, SharedRecords } from '../../core/ports/shared-records.js'
import type { RedisLink } from './link.js'
import { type Places, spareMs } from './places.js'
import { recordDropScript, recordScript, recordsScript } from './record-scripts.js'

/** A record as it was seen last; `mark` is another with every change. */
interface Seen {
  readonly mark: string
  readonly value: string
  readonly keepUntil: number
}

const nothingSeen: Seen = { mark: '', value: '', keepUntil: 0 }

/** Records whose latest value this process remembers, at the most. */
const mostSeen = 1_000

/** Records listed at once. */
const pageOf = 200

/**
 * A change that others came before is tried again at once, for the answer says what they wrote: of as many as write at once one comes through each time.
 * After so many times it waits, this many milliseconds at the most.
 */
const atOnceTries = 100
const longestWaitMs = 5

/**
 * Records that are compared and set: a change is made of what this process saw last, and is written only if that is what is there still, so
 * that most take one round trip.
 */
export class RedisRecords implements SharedRecords {
  readonly #link: RedisLink
  readonly #base: string
  readonly #seen = new Map<string, Seen>()
  /** Changes of each record under way in this process, one after the other. */
  readonly #changes = new Map<string, Promise<void>>()
  readonly #id = randomUUID()
  #marks = 0

  constructor(link: RedisLink, places: Places) {
    this.#link = link
    this.#base = places.records
  }

  update(name: string, now: number, change: (value: string | undefined) => SharedRecord | undefined): Promise<void> {
    const before = this.#changes.get(name) ?? Promise.resolve()
    const done = before.then(() => this.#update(name, now, change))
    const settled = done.then(noop, noop)
    this.#changes.set(name, settled)
    void settled.then(() => {
      if (this.#changes.get(name) === settled) this.#changes.delete(name)
    })
    return done
  }

  async #update(name: string, now: number, change: (value: string | undefined) => SharedRecord | undefined): Promise<void> {
    let seen = this.#seen.get(name)
    let isSure = seen === undefined
    if (!seen) seen = await this.#look(name)
    for (let tries = 0; ; tries++) {
      const next = attempted(() => change(seen && seen.keepUntil > now ? seen.value : undefined))
      if ('error' in next || next.result === undefined) {
        if (isSure) {
          if ('error' in next) throw next.error
          return
        }
        const there = await this.#look(name)
        isSure = true
        if (there.mark === seen.mark && !('error' in next)) return
        seen = there
        continue
      }
      const there = await this.#set(name, seen.mark, next.result, now)
      if (!there) return
      seen = there
      isSure = true
      if (tries > atOnceTries) await new Promise((resolve) => setTimeout(resolve, Math.random() * longestWaitMs))
    }
  }

  /** Returns what is there instead, where that is another than was seen. */
  async #set(name: string, mark: string, { value, keepUntil }: SharedRecord, now: number): Promise<Seen | undefined> {
    const next = `${this.#id} ${++this.#marks}`
    const left = String(Math.max(0, Math.ceil(keepUntil - now)) + spareMs)
    const args = [this.#base, name, mark, value, next, String(keepUntil), left]
    const [theirs, there = '', until = '0'] = (await this.#link.run(recordScript, `${this.#base}names`, args)) as string[]
    if (theirs === next) {
      this.#remember(name, { mark: next, value, keepUntil })
      return undefined
    }
    return this.#remember(name, { mark: theirs ?? '', value: there, keepUntil: Number(until) })
  }

  async #look(name: string): Promise<Seen> {
    const place = `${this.#base}record:${name}`
    const [mark, value, keepUntil] = (await this.#link.fields(place, ['mark', 'value', 'keep_until'])).map((field) => field?.toString())
    if (mark === null || mark === undefined) {
      this.#seen.delete(name)
      return nothingSeen
    }
    return this.#remember(name, { mark, value: value ?? '', keepUntil: Number(keepUntil) })
  }

  #remember(name: string, seen: Seen): Seen {
    if (this.#seen.size >= mostSeen) this.#seen.clear()
    this.#seen.set(name, seen)
    return seen
  }

  async read(name: string, now: number): Promise<string | undefined> {
    const { value, keepUntil } = await this.#look(name)
    return keepUntil > now ? value : undefined
  }

  async records(prefix: string, now: number): Promise<ReadonlyMap<string, string>> {
    const found = new Map<string, string>()
    for (const { name, value, keepUntil } of await this.#all(prefix, { tidy: false })) if (keepUntil > now) found.set(name, value)
    return found
  }

  async sweep(now: number): Promise<void> {
    const over = (await this.#all('', { tidy: true })).filter(({ keepUntil }) => keepUntil <= now)
    await Promise.all(
      over.map(({ name }) => {
        this.#seen.delete(name)
        return this.#link.run(recordDropScript, `${this.#base}names`, [this.#base, name, String(now)])
      }),
    )
  }

  /** `tidy`: forgets names of which nothing is kept any more. */
  async #all(prefix: string, { tidy }: { tidy: boolean }): Promise<(Omit<Seen, 'mark'> & { readonly name: string })[]> {
    const all: (Omit<Seen, 'mark'> & { readonly name: string })[] = []
    let after = ''
    do {
      const args = [this.#base, prefix, after, String(pageOf), tidy ? '1' : '0']
      const [next = '', ...texts] = (await this.#link.run(recordsScript, `${this.#base}names`, args)) as string[]
      for (let i = 0; i < texts.length; i += 3)
        all.push({ name: texts[i] as string, value: texts[i + 1] as string, keepUntil: Number(texts[i + 2]) })
      after = next
    } while (after !== '')
    return all
  }
}

function attempted<T>(work: () => T): { readonly result: T } | { readonly error: unknown } {
  try {
    return { result: work() }
  } catch (error) {
    return { error }
  }
}

function noop(): void {}
