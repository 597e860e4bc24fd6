import type { SingleBar } from 'cli-progress'
import { countText } from '../render/format.js'

/** How long a work has to take before it is shown how far it is, milliseconds. */
const shownAfterMs = 1_000

/** How often it is noted how far a work is, milliseconds: how fast it was before says little of the rest. */
const markEveryMs = 2_000

interface Mark {
  readonly at: number
  readonly done: number
}

/** How far a work is. */
export interface Progress {
  /** So many are done, and of how many, where that is known; `leftMs`: how long the rest takes, where that is known better than by what is done. */
  at(done: number, of?: number, leftMs?: number): void
  /** It is over: nothing of it stays on the screen. */
  stop(): void
}

/** Shows on a terminal how far a work is that takes more than a second, and how long it still takes where it is known how much there is. */
export function progressOf(stderr: NodeJS.WriteStream, what: string): Progress {
  if (!stderr.isTTY) return { at() {}, stop() {} }
  /** How far it was at two moments: by what was done since the earlier of them it is told how long the rest takes. */
  let marks: readonly Mark[] = []
  let bar: SingleBar | undefined
  let begin = () => {}
  let isOver = false
  let [done, total] = [0, 0]
  let leftMs: number | undefined
  const text = () => {
    const [earlier] = marks
    const passedMs = performance.now() - (earlier?.at ?? Number.POSITIVE_INFINITY)
    const each = earlier && done > earlier.done && passedMs > shownAfterMs ? passedMs / (done - earlier.done) : undefined
    const ms = leftMs ?? (each === undefined ? undefined : each * (total - done))
    const ofAll = total > 0 ? ` of ${countText(total)}${ms === undefined ? '' : `, ${Math.ceil(ms / 1_000)} s left`}` : ''
    return { text: `${countText(done)}${ofAll}` }
  }
  const show = async () => {
    const { SingleBar } = await import('cli-progress')
    if (isOver) return
    begin = () => {
      // the terminal is left as it is, so that nothing has to be put right where the command is interrupted
      const asItIs = { hideCursor: false, linewrap: true, gracefulExit: false }
      const format = total > 0 ? `${what} {bar} {text}` : `${what}: {text}`
      bar = new SingleBar({ ...asItIs, stream: stderr, clearOnComplete: true, format, barsize: 24 })
      bar.start(total, done, text())
    }
    begin()
  }
  const timer = setTimeout(() => void show(), shownAfterMs)
  return {
    at(now, of = 0, ms = undefined) {
      done = now
      const mark = { at: performance.now(), done }
      const last = marks.at(-1)
      if (!last || mark.at - last.at > markEveryMs) marks = [...marks, mark].slice(-2)
      leftMs = ms
      const isKnown = total > 0
      total = Math.max(of, isKnown ? now : 0)
      if (bar && total > 0 && !isKnown) {
        bar.stop()
        begin() // with a bar, now that it is known how much there is
      }
      bar?.setTotal(total)
      bar?.update(done, text())
    },
    stop() {
      isOver = true
      clearTimeout(timer)
      bar?.stop()
    },
  }
}

/** Does a work and shows meanwhile how far it is; nothing of that is left when its result is printed. */
export async function withProgress<T>(stderr: NodeJS.WriteStream, what: string, work: (progress: Progress) => Promise<T>): Promise<T> {
  const progress = progressOf(stderr, what)
  try {
    return await work(progress)
  } finally {
    progress.stop()
  }
}

/** What comes of a source, with how much of it came so far. */
export async function* counted<T>(source: AsyncIterable<T>, progress: Progress, of?: number): AsyncGenerator<T> {
  let done = 0
  for await (const one of source) {
    progress.at(++done, of)
    yield one
  }
}
