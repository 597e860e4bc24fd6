import type { Clock } from '../../core/ports/clock.js'
import type { SharedRecords } from '../../core/ports/shared-records.js'
import type { Call } from '../call/call.js'
import type { CallsInFlight } from './calls-in-flight.js'
import type { Found } from './look-up.js'

/** How often the refresh of a key is tried, milliseconds, and of how many keys that is remembered. */
const refreshEveryMs = 250
const mostTried = 10_000

/** Refreshes entries that nobody waits for: one call for a key, in all processes. */
export class BackgroundRefresh {
  readonly #inFlight: CallsInFlight
  readonly #records: SharedRecords
  readonly #clock: Clock
  /** When the refresh of a key was last tried, in ticks. */
  readonly #tried = new Map<string, number>()

  constructor(inFlight: CallsInFlight, records: SharedRecords, clock: Clock) {
    this.#inFlight = inFlight
    this.#records = records
    this.#clock = clock
  }

  /** Begins a refresh, unless one is under way, here or in another process. Never rejects. */
  async begin<T>(call: Call<T>, found: Found): Promise<void> {
    if (this.#inFlight.has(found.key) || !this.#mayTryAgain(found.key)) return
    const lease = await this.#lease(found.key, call.endpoint.timeouts.leaseMs)
    if (!lease) return
    const terms = { ...call.terms, signal: undefined, urgency: { inBackground: true, nobodyWaits: true } }
    const { shared, joined } = this.#inFlight.callFor({ call, terms, deadline: undefined }, found, 'shared')
    if (!joined) void shared.settled.then(() => shared.dropIfUnasked()) // what is too large to be kept is for nobody
    await shared.ended
    await lease.release()
  }

  /** Whether a refresh was not tried a moment ago: what keeps it from happening is not asked about with every use of an answer. */
  #mayTryAgain(key: string): boolean {
    const now = this.#clock.ticks()
    if (now - (this.#tried.get(key) ?? Number.NEGATIVE_INFINITY) < refreshEveryMs) return false
    if (this.#tried.size >= mostTried) this.#tried.clear()
    this.#tried.set(key, now)
    return true
  }

  /**
   * Takes the refresh of a key for this process; undefined where another process has it. A store that cannot say so keeps nobody from
   * refreshing.
   */
  async #lease(key: string, leaseMs: number): Promise<{ release(): Promise<void> } | undefined> {
    const name = `refresh ${key}`
    let isTaken = true
    const write = async (change: (value: string | undefined, now: number) => number | undefined) => {
      try {
        const now = this.#clock.now()
        await this.#records.update(name, now, (value) => {
          const keepUntil = change(value, now)
          return keepUntil === undefined ? undefined : { value: String(now + leaseMs), keepUntil }
        })
      } catch {
        // each process for itself, then
      }
    }
    await write((value, now) => {
      isTaken = value === undefined || Number(value) - now > leaseMs // else the clock was set back since
      return isTaken ? now + leaseMs : undefined
    })
    return isTaken ? { release: () => write((_value, now) => now) } : undefined
  }
}
