import { memoryStore, openStash } from 'stashen'
import { providers } from './config.js'
import { openHarbour } from './open-harbour.js'
import { requests } from './requests.js'

/** How long the same call takes, in real time: when it leaves, and when it is answered from store. */
export interface SameCall {
  readonly url: string
  readonly forwardedMs: number
  readonly storedMs: number
}

/** Makes one call of the harbour office three times, the first two for both ways to be as quick as they get. */
export async function sameCall(): Promise<SameCall> {
  const harbour = await openHarbour()
  const stash = await openStash({ store: memoryStore(), fetch: harbour.fetch, providers })
  try {
    const { url } = requests.station()
    const ms: number[] = []
    for (let i = 0; i < 3; i++) {
      const response = await stash.fetch(url)
      await response.arrayBuffer()
      ms.push(stash.outcomeOf(response)?.ms ?? Number.NaN)
    }
    return { url, forwardedMs: ms[0] as number, storedMs: ms[2] as number }
  } finally {
    await stash.close()
    await harbour.close()
  }
}
