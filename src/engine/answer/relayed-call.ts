import { joinedBytes } from '../../core/bytes.js'
import type { Claim, Claims, Shown } from '../../core/ports/claims.js'
import type { Clock } from '../../core/ports/clock.js'
import { type Finished, unitsIn, type WithAnswer } from '../call/fetched.js'
import type { Relaying } from '../call/relaying.js'
import { AnswerEnd } from '../upstream/answer-end.js'
import { notReused } from '../upstream/attempt-ends.js'
import type { Ended, Landed, Usage } from '../upstream/landed.js'
import { placeOf } from '../upstream/place.js'
import type { UpstreamJob } from '../upstream/upstream-job.js'
import { pause } from '../upstream/waiting.js'
import { pieceOf } from './shown-piece.js'

/** How often it is looked for more of an answer that another process shows, milliseconds. */
const watchEveryMs = 50

export interface RelayParts {
  readonly claims: Claims
  readonly clock: Clock
  /** Makes the call in place of the process that made it, which shows no more. `over`: whoever else is at it. */
  readonly instead: (over: boolean) => Promise<Landed<never>>
}

/**
 * An answer that another process shows while it arrives. Where that one shows no more of it, it is asked for again: what was given of it has to be the
 * beginning of what comes then.
 */
export class RelayedCall<T> {
  readonly #job: UpstreamJob<T>
  readonly #relaying: Relaying<T>
  readonly #claim: Claim
  readonly #parts: RelayParts
  readonly #given: Uint8Array[] = []
  #pieces: Uint8Array[]
  #seen: number
  #answer: T | undefined
  #key = ''
  /** What came in its place, which may be relayed itself, and what that cost. */
  #inPlace: Landed<T> | undefined
  #usage: Usage | undefined
  #isCounted = false
  #rest: ReadableStreamDefaultReader<Uint8Array> | undefined

  constructor(job: UpstreamJob<T>, relaying: Relaying<T>, claim: Claim, { pieces }: Shown, parts: RelayParts) {
    this.#job = job
    this.#relaying = relaying
    this.#claim = claim
    this.#parts = parts
    this.#pieces = [...pieces]
    this.#seen = pieces.length
  }

  /** Undefined where it is none that can be given. */
  async landed(): Promise<Landed<T> | undefined> {
    const first = pieceOf(this.#pieces.shift() ?? new Uint8Array())
    if (first.is !== 'head') return undefined
    const body = new ReadableStream<Uint8Array>({
      pull: (controller) => this.#pull(controller),
      cancel: (reason) => this.#rest?.cancel(reason),
    })
    const { call, ending } = this.#job
    const fetched = await this.#relaying.answer(first.head, body, ending)
    if (!('answer' in fetched) || fetched.result !== 'answered') return undefined
    this.#answer = fetched.answer
    const place = placeOf(call, fetched)
    this.#key = place.key
    const end = new AnswerEnd()
    const finish = async () => {
      try {
        const finished = await fetched.finish()
        end.whole(finished, this.#usage ?? { known: unitsIn(finished) })
        if (this.#inPlace && 'kept' in finished) this.#inPlace.onEnd(end.over)
        else end.over(endedOf(finished, fetched, place.key))
      } finally {
        fetched.release()
      }
    }
    const finished = finish()
    return {
      ...{ fetched, place, finished, settled: fetched.settled ?? finished, attempts: 0, onWhole: end.onWhole, onEnd: end.onEnd },
      isRelayed: true,
      isLost: async () => end.finished === undefined && (await this.#parts.claims.look(this.#claim)) === 'over',
      takeOwn: () => this.#takeOwn(),
    }
  }

  #takeOwn(): boolean {
    const next = this.#inPlace
    if (this.#isCounted || !next || (next.attempts === 0 && next.takeOwn?.() !== true)) return false
    this.#isCounted = true
    return true
  }

  async #pull(controller: ReadableStreamDefaultController<Uint8Array>): Promise<void> {
    const bytes = this.#rest ? await nextOf(this.#rest) : await this.#next()
    if (!bytes) return controller.close()
    if (!this.#rest) this.#given.push(bytes)
    controller.enqueue(bytes)
  }

  /** Undefined at the end. */
  async #next(): Promise<Uint8Array | undefined> {
    const { claims, clock } = this.#parts
    const { ending } = this.#job
    for (;;) {
      const written = this.#pieces.shift()
      if (written) {
        const piece = pieceOf(written)
        if (piece.is === 'bytes') return piece.bytes
        if (piece.is === 'end') return undefined
        if (piece.is === 'broken') throw new Error('it broke off in the process that asked for it')
        return this.#nextInstead()
      }
      if (ending.aborted) throw ending.reason
      const shown = await claims.watch?.(this.#claim, this.#seen)
      if (!shown || (!shown.isAlive && shown.pieces.length === 0)) return this.#nextInstead()
      this.#pieces = [...shown.pieces]
      this.#seen += shown.pieces.length
      if (shown.pieces.length === 0) await pause(clock, watchEveryMs, ending)
    }
  }

  /** Asks for the answer, and goes on where what was given of it ends. */
  async #nextInstead(over = false): Promise<Uint8Array | undefined> {
    const landed = (await this.#parts.instead(over)) as Landed<T>
    const { fetched } = landed
    this.#inPlace = landed
    landed.onWhole((_, usage) => {
      this.#usage = usage
    })
    let next: T
    if (fetched.result === 'elsewhere') {
      const entry = await fetched.look(this.#key)
      if (!entry) return this.#nextInstead(true)
      next = this.#job.call.form.restore(entry)
    } else if ('answer' in fetched) next = fetched.answer
    else throw fetched.error
    if (!this.#relaying.isSame(this.#answer as T, next)) throw new Error(anotherAnswer)
    this.#rest = this.#relaying.bodyOf(next).getReader()
    return skip(this.#rest, this.#given)
  }
}

function endedOf<T>(finished: Finished, { judged }: WithAnswer<T>, key: string): Ended {
  const keeping = 'kept' in finished ? judged?.(key) : undefined
  if (typeof keeping === 'object') return { stored: keeping }
  return 'notKept' in finished ? { notStored: finished.notKept } : notReused(finished)
}

const anotherAnswer = 'the process that asked for it shows no more of it, and another answer has come in its place'

async function nextOf(reader: ReadableStreamDefaultReader<Uint8Array>): Promise<Uint8Array | undefined> {
  const { done, value } = await reader.read()
  return done ? undefined : value
}

/** Reads on to where what was given ends, and returns what comes next. Throws where it begins otherwise. */
async function skip(reader: ReadableStreamDefaultReader<Uint8Array>, given: readonly Uint8Array[]): Promise<Uint8Array | undefined> {
  const expected = joinedBytes(given)
  for (let at = 0; ; ) {
    const bytes = await nextOf(reader)
    const known = bytes?.subarray(0, expected.byteLength - at)
    if (at < expected.byteLength && (!known || known.some((byte, i) => byte !== expected[at + i]))) throw new Error(anotherAnswer)
    at += known?.byteLength ?? 0
    if (!bytes || !known || bytes.byteLength > known.byteLength) return bytes?.subarray(known?.byteLength ?? 0)
  }
}
