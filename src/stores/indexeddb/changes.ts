import type { Selection } from '../../core/ports/selection.js'

/** Tells other tabs and workers of the same origin what changes, where the browser can (BroadcastChannel, HTML Living Standard section 9.5). */
export class Changes {
  readonly #name: string
  #channel: BroadcastChannel | undefined

  constructor(name: string) {
    this.#name = name
  }

  open(): void {
    if (typeof BroadcastChannel === 'function') this.#channel ??= new BroadcastChannel(this.#name)
  }

  tell(selection: Selection): void {
    this.#channel?.postMessage(selection)
  }

  /** Returns what ends that. */
  listen(changed: (selection: Selection) => void): () => void {
    const channel = this.#channel
    const heard = ({ data }: MessageEvent) => changed(data as Selection)
    channel?.addEventListener('message', heard)
    return () => channel?.removeEventListener('message', heard)
  }

  close(): void {
    this.#channel?.close()
    this.#channel = undefined
  }
}
