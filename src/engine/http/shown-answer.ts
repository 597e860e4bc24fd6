import type { Keeping } from '../../core/decide/keep.js'
import type { Exchange } from '../../core/http/age.js'
import type { StoredHead } from '../../core/http/stored-head.js'
import type { Arriving } from '../call/arriving.js'
import { bodiless, canBeMade, type HttpAnswer } from './http-answer.js'
import { type Exchanged, type Keeper, keptForm } from './kept-answer.js'
import type { SharedBody } from './shared-body.js'

/** The head of an answer as others are shown it, and when it was asked for and came. */
export interface ShownHead extends StoredHead, Exchange {}

const noBytes = new Uint8Array()

/** What others may see of an answer that arrives, by its head as it is stored; nothing of one that no `Response` can be made of. */
export function shownAnswer(keeper: Keeper, answer: HttpAnswer, body: SharedBody, known: Exchanged): Arriving | undefined {
  if (answer.opaque || !canBeMade(answer) || bodiless.includes(answer.status)) return undefined
  return {
    head(keeping: Keeping) {
      const { head } = keptForm({ ...keeper, labels: undefined }, { ...answer, body: noBytes }, known).form(keeping)
      const { askedAt, answeredAt } = known.http
      return JSON.stringify({ ...(JSON.parse(head) as StoredHead), askedAt, answeredAt } satisfies ShownHead)
    },
    watch: (watcher) => body.watch(watcher),
    unwatched: () => body.unwatched(),
  }
}
