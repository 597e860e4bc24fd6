import type { EventListener, EventName, StashEvents } from '../core/decide/events.js'

/** Tells listeners what happens. What a listener throws is nobody's concern but its own: it is said once and changes nothing. */
export class Events {
  readonly #listeners = new Map<EventName, Set<EventListener<EventName>>>()
  readonly #warn: (message: string) => void
  #warned = false
  /** Whether anybody listens for calls: asked for each of them. */
  callsHeard = false

  constructor(warn: (message: string) => void) {
    this.#warn = warn
  }

  /** Returns what ends the listening. */
  on<N extends EventName>(name: N, listener: EventListener<N>): () => void {
    const listeners = this.#listeners.get(name) ?? new Set()
    this.#listeners.set(name, listeners)
    const own: EventListener<EventName> = (event) => listener(event as StashEvents[N])
    listeners.add(own)
    this.callsHeard = this.heard('call')
    return () => {
      listeners.delete(own)
      this.callsHeard = this.heard('call')
    }
  }

  /** Whether anybody listens: what is costly to tell is not made for nobody. */
  heard(name: EventName): boolean {
    return (this.#listeners.get(name)?.size ?? 0) > 0
  }

  tell<N extends EventName>(name: N, event: StashEvents[N]): void {
    for (const listener of this.#listeners.get(name) ?? []) {
      try {
        listener(event)
      } catch (error) {
        if (!this.#warned) this.#warn(`a listener for "${name}" failed: ${error instanceof Error ? error.message : String(error)}`)
        this.#warned = true
      }
    }
  }
}
