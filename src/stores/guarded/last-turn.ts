/** Of Node, where what has arrived is read before it comes; tests may replace it by one that does not come. */
const { setImmediate: immediate } = globalThis as { setImmediate?: (then: () => void) => { unref(): void } }

let comes = false
immediate?.(() => {
  comes = true
}).unref()

/** Waits until what has arrived while the event loop was held up has been read. */
export function lastTurn(): Promise<void> {
  return new Promise((resolve) => (comes && immediate ? void immediate(resolve) : resolve()))
}
