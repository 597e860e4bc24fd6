import { joinedBytes } from '../../core/bytes.js'
import { BrokenBodyError, UpstreamTimeoutError } from '../../core/errors/call-errors.js'
import type { Claim, Claims } from '../../core/ports/claims.js'
import type { Clock } from '../../core/ports/clock.js'
import type { Arriving, BodyWatcher } from '../call/arriving.js'
import { Cancellation } from '../cancellation.js'
import type { Landed } from '../upstream/landed.js'
import { pause } from '../upstream/waiting.js'
import { type ShownPiece, writtenPiece } from './shown-piece.js'

/** An answer is shown that takes so long to arrive, so often where somebody watches, and at the least; else it is asked whether anybody does, milliseconds. */
const showAfterMs = 100
const showEveryMs = 50
const showAtLeastEveryMs = 1_000
const askEveryMs = 250

/** Shows whoever waits for it in other processes the answer of a claim while it arrives, if that takes a while and anybody watches. Never rejects. */
export async function showArriving(
  claims: Claims,
  clock: Clock,
  claim: Claim,
  { fetched, place, onWhole }: Landed<unknown>,
): Promise<void> {
  if (!claims.show || !('answer' in fetched) || fetched.result !== 'answered' || fetched.isComplete || !fetched.arriving) return
  const over = new Cancellation()
  onWhole(() => over.abort(undefined))
  await pause(clock, showAfterMs, over)
  if (over.aborted) return
  try {
    const keeping = fetched.judged?.(place.key)
    if (typeof keeping === 'object') await new Show(claims, clock, claim, fetched.arriving).run(fetched.arriving.head(keeping))
  } catch {
    // who cannot be shown it gets it once it is stored
  }
}

class Show {
  readonly #claims: Claims
  readonly #clock: Clock
  readonly #claim: Claim
  readonly #arriving: Arriving
  /** Aborts once there is something new to be shown. */
  #news = new Cancellation()
  #waiting: Uint8Array[] = []
  #end: ShownPiece | undefined
  #shown = 0
  #isWatched = false

  constructor(claims: Claims, clock: Clock, claim: Claim, arriving: Arriving) {
    this.#claims = claims
    this.#clock = clock
    this.#claim = claim
    this.#arriving = arriving
  }

  async run(head: string): Promise<void> {
    const watcher: BodyWatcher = {
      piece: (bytes) => void this.#waiting.push(bytes),
      over: (how) => {
        this.#end = endOf(how)
        this.#news.abort(undefined)
      },
      isWanted: () => this.#isWatched,
    }
    if (!this.#arriving.watch(watcher)) return
    let shownAt = this.#clock.ticks()
    while (!(this.#end && !this.#isWatched)) {
      const isEnd = this.#end !== undefined
      const isDue = this.#clock.ticks() - shownAt >= showAtLeastEveryMs
      if (!this.#isWatched || this.#waiting.length > 0 || isEnd || isDue) {
        await this.#show(head)
        shownAt = this.#clock.ticks()
      }
      if (isEnd && this.#waiting.length === 0) return
      if (!this.#end) await pause(this.#clock, this.#isWatched ? showEveryMs : askEveryMs, this.#news)
    }
  }

  async #show(head: string): Promise<void> {
    const [bytes, end] = [this.#waiting, this.#end]
    const pieces: ShownPiece[] = []
    if (this.#isWatched) {
      if (this.#shown === 0) pieces.push({ is: 'head', head })
      if (bytes.length > 0) pieces.push({ is: 'bytes', bytes: joinedBytes(bytes) })
      if (end) pieces.push(end)
      this.#waiting = []
    }
    const wasWatched = this.#isWatched
    this.#isWatched = (await this.#claims.show?.(this.#claim, this.#shown, pieces.map(writtenPiece))) === true
    if (this.#isWatched) this.#shown += pieces.length
    else if (wasWatched) {
      this.#waiting = [...bytes, ...this.#waiting]
      this.#arriving.unwatched()
    }
  }
}

function endOf(how: Parameters<BodyWatcher['over']>[0]): ShownPiece {
  if (how === 'complete') return { is: 'end' }
  const isOfUpstream = typeof how === 'object' && (how.broken instanceof BrokenBodyError || how.broken instanceof UpstreamTimeoutError)
  return { is: isOfUpstream ? 'broken' : 'lost' }
}
