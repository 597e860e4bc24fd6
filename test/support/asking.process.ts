import { openStash } from 'stashen'
import { harbourAt, storeNamed } from './two-processes.js'

/** Asks for a path of the harbour many times at once, and writes how each call was answered, a line a call. */
const [store = '', baseUrl = '', path = '', times = '1'] = process.argv.slice(2)
const stash = await openStash({ store: storeNamed(store), storeTimeout: '30 s', providers: { harbour: harbourAt(baseUrl) } })
const calls = Array.from({ length: Number(times) }, async (_, i) => {
  try {
    const response = await stash.fetch(`${baseUrl}${path.replace('*', `${process.pid}-${i}`)}`)
    await response.text()
    process.stdout.write(`${stash.outcomeOf(response)?.how} ${stash.outcomeOf(response)?.reason}\n`)
  } catch (error) {
    process.stdout.write(`${(error as { code?: string }).code ?? error}\n`)
  }
})
await Promise.all(calls)
await stash.close()
