import { UsageError } from './errors/setup-errors.js'

/** Anything that can be loaded. */
interface Loading {
  get(): Promise<unknown>
}

const known: Loading[] = []

/** Code that is loaded when it is first asked for: who never asks need not have it. */
export class OnDemand<M> implements Loading {
  readonly #load: () => Promise<M>
  #code: M | undefined

  constructor(load: () => Promise<M>) {
    this.#load = load
    known.push(this)
  }

  /** The code, if it is there. */
  get loaded(): M | undefined {
    return this.#code
  }

  /** Brings the code, so that it need not be loaded. */
  give(code: M): void {
    this.#code = code
  }

  /** The code. Rejects with code `USAGE` where it cannot be loaded; the next time it is tried again. */
  async get(): Promise<M> {
    if (this.#code !== undefined) return this.#code
    try {
      this.#code = await this.#load()
      return this.#code
    } catch (cause) {
      const next =
        'ServiceWorkerGlobalScope' in globalThis
          ? 'In a service worker, which can load no code later, import "stashen/whole" in place of "stashen"'
          : 'Ask for it while its files can be reached, or call loadEverything() before'
      throw new UsageError(
        `a part of Stashen that is loaded when it is first asked for cannot be loaded: ${(cause as Error).message}. ${next}`,
        { cause },
      )
    }
  }
}

/** Loads all that would be loaded on demand. */
export async function loadAll(): Promise<void> {
  await Promise.all(known.map((one) => one.get()))
}
