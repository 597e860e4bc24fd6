import { useEffect, useState } from 'react'
import type { Outcome, Stash } from 'stashen'

/** What a tile shows: the newest answer and how it came, or the error if there is none. */
export interface Shown<T> {
  readonly answer?: T
  readonly outcome?: Outcome
  readonly shownAt: number
  readonly error?: string
}

/** How often a tile asks, milliseconds. The stash decides how often that reaches the provider. */
const askEvery = 2_000

/** Asks for `url` again and again. */
export function useAnswer<T>(stash: Stash, url: string): Shown<T> {
  const [shown, setShown] = useState<Shown<T>>({ shownAt: Date.now() })
  useEffect(() => {
    let gone = false
    const ask = async () => {
      const next = await askOnce<T>(stash, url)
      if (!gone) setShown(next)
    }
    void ask()
    const timer = setInterval(ask, askEvery)
    return () => {
      gone = true
      clearInterval(timer)
    }
  }, [stash, url])
  return shown
}

async function askOnce<T>(stash: Stash, url: string): Promise<Shown<T>> {
  try {
    const response = await stash.fetch(url)
    const outcome = stash.outcomeOf(response)
    if (!response.ok) return { outcome, shownAt: Date.now(), error: `the provider answered ${response.status}` }
    return { answer: (await response.json()) as T, outcome, shownAt: Date.now() }
  } catch (error) {
    return { shownAt: Date.now(), error: error instanceof Error ? error.message : String(error) }
  }
}
