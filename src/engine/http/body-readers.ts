/** Somebody who reads a body. */
export interface Reader {
  readonly controller: ReadableByteStreamController
  readonly leave: () => void
  /** Called when it leaves before the end. */
  readonly abandoned: () => void
  /** Whether it waits for bytes. */
  waits: boolean
}

export function give(reader: Reader, bytes: Uint8Array): void {
  reader.waits = false
  reader.controller.enqueue(new Uint8Array(bytes)) // a copy, also of a `Buffer`
}

/** Has a reader see how the body ended. */
export function end({ controller, leave }: Reader, state: string | { readonly broken: unknown }): void {
  leave()
  if (typeof state === 'object') {
    controller.error(state.broken)
    return
  }
  controller.close()
  controller.byobRequest?.respond(0)
}
