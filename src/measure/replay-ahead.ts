import canonicalize from 'canonicalize'
import type { Store } from '../core/ports/store.js'
import type { SeenCall } from '../core/traffic/seen-call.js'
import { summaryOf } from '../core/traffic/summary.js'
import { Replay } from './replay.js'
import { type StarterConfig, starterConfig } from './starter-config.js'

/** A call may be written so much later than it began than any before, milliseconds. */
const leewayMs = 50

/** How long it works at a time, milliseconds, and which part of that it then rests: the program is what the machine is there for. */
const workMs = 60
const restShare = 0.25

/** The rules are looked at again once there are so many times the calls. */
const growth = 1.1

/**
 * Counts the calls of a program while it still runs, by the rules that follow from what was seen so far, so that little is left to do at its end. Where
 * other rules follow from what came since, it begins again.
 */
export class ReplayAhead {
  #replay: Replay | undefined
  /** The rules that it counts by, as canonical JSON (RFC 8785). */
  #rules: string | undefined
  /** How many of the calls were looked at. */
  #seen = 0
  /** Calls that are not counted yet, in the order in which they began. */
  #waiting: SeenCall[] = []
  #longestMs = 0
  #restUntil = 0
  #working: Promise<void> | undefined
  #isOver = false

  /** Counts some, unless it rests. `calls`: all that were seen, in the order in which they ended. */
  async step(calls: readonly SeenCall[]): Promise<void> {
    const began = performance.now()
    if (this.#working || began < this.#restUntil) return
    const counting = this.#countAhead(calls).catch(() => this.#beginAgain())
    this.#working = counting.finally(() => {
      this.#working = undefined
      const now = performance.now()
      this.#restUntil = now + restShare * (now - began)
    })
    await this.#working
  }

  /** Counts the rest and adds everything to a store. `onProgress`: told how many are done, and of how many. */
  async finish(
    calls: readonly SeenCall[],
    config: StarterConfig,
    store: Store,
    onProgress: (done: number, of: number) => void,
  ): Promise<void> {
    await this.stop()
    const replay = await this.#take(calls, config)
    let done = calls.length - this.#waiting.length
    for (const call of this.#waiting) {
      await replay.count(call)
      onProgress(++done, calls.length)
    }
    await replay.into(store)
  }

  /** Counts no more ahead. */
  async stop(): Promise<void> {
    this.#isOver = true
    await this.#working
  }

  async #countAhead(calls: readonly SeenCall[]): Promise<void> {
    if (calls.length >= growth * this.#seen && calls.length > 0) await this.#take(calls, starterConfig(summaryOf(calls)))
    if (!this.#replay) return
    // what began so late may still be preceded by a call that has not ended
    const until = (this.#waiting.at(-1)?.at ?? 0) - this.#longestMs - leewayMs
    const end = performance.now() + workMs
    let counted = 0
    for (let next = this.#waiting[0]; next && next.at <= until && performance.now() < end && !this.#isOver; next = this.#waiting[counted]) {
      await this.#replay.count(next)
      counted++
    }
    this.#waiting.splice(0, counted)
  }

  /** What went wrong is told at the end, should it do so again. */
  #beginAgain(): void {
    this.#replay = undefined
    this.#seen = 0
  }

  /** Takes in what was seen since, and begins again where that leads to other rules, or began before what was counted. */
  async #take([...calls]: readonly SeenCall[], config: StarterConfig): Promise<Replay> {
    const rules = canonicalize(config)
    const news = calls.slice(this.#seen)
    const at = this.#replay?.at ?? Number.NEGATIVE_INFINITY
    const isAsBefore = this.#replay !== undefined && rules === this.#rules && news.every((call) => call.at >= at)
    if (!isAsBefore) {
      await this.#replay?.discard()
      this.#replay = new Replay(config)
      this.#rules = rules
    }
    this.#longestMs = news.reduce((longest, { ms }) => Math.max(longest, ms), this.#longestMs)
    this.#waiting = (isAsBefore ? [...this.#waiting, ...news] : calls).sort((a, b) => a.at - b.at)
    this.#seen = calls.length
    return this.#replay as Replay
  }
}
