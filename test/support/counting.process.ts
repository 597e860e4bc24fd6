import './quick-process.js'
import { openStash } from 'stashen'
import { fileJournal } from 'stashen/journal'
import { sqliteStore } from 'stashen/sqlite'

/** Makes so many calls into a store file, and a journal beside it, about one a millisecond, and writes after each how many there were and the time, on a line. */
const [file = '', most = 'Infinity'] = process.argv.slice(2)
const stash = await openStash({ store: sqliteStore(file), journal: fileJournal(`${file}.jsonl`) })
const find = stash.operation('skerrylight.find', async (name: string) => name, { freshFor: '1 day' })
for (let calls = 1; calls <= Number(most); calls++) {
  await find(`Marram ${calls % 5}`)
  process.stdout.write(`${calls} ${Date.now()}\n`)
  await new Promise((resolve) => setTimeout(resolve, 1))
}
await stash.close()
