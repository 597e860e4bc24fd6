import { callsAround, runFunction } from '../engine/nested-calls.js'

/** Calls that a `fetch` of the configuration sends, however it does that: they leave for a stash itself, and are not covered again. */
const own = { operation: {}, key: '', within: [] }

let sending = 0

export function ownCall<T>(send: () => Promise<T>): Promise<T> {
  return runFunction(own, () => {
    sending++
    try {
      return send()
    } finally {
      sending--
    }
  })
}

/** Whether what is called now is called by one of them. */
export function isOwnCall(): boolean {
  return sending > 0 || callsAround().includes(own)
}
