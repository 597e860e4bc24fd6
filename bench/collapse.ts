import { openStash } from 'stashen'

/** How many upstream calls come of `askers` simultaneous identical calls to an empty stash. */
export async function upstreamCallsOf(askers: number): Promise<number> {
  let calls = 0
  const stash = await openStash()
  const find = stash.operation(
    'skerrylight.id',
    async (name: string) => {
      calls++
      await new Promise((resolve) => setTimeout(resolve, 20))
      return `v-201 of ${name}`
    },
    { freshFor: '1 day' },
  )
  await Promise.all(Array.from({ length: askers }, () => find('Marram')))
  await stash.close()
  return calls
}
