import { openStash } from 'stashen'
import { sqliteStore } from 'stashen/sqlite'
import './quick-process.js'

/**
 * Makes calls of an operation under a limit into a store file, about one every millisecond, until its input ends and 10 were refused, and writes a line for each thing
 * that happens: `up` for a call that leaves, `refused`, what was warned of, and how many were asked.
 */
const [file = '', limit = ''] = process.argv.slice(2)
const say = (line: string) => void process.stdout.write(`${line}\n`)
const stash = await openStash({
  store: sqliteStore(file),
  providers: { skerrylight: { limits: [{ calls: Number(limit), per: 'hour' }] } },
  warn: (message) => say(`warned: ${message}`),
})
const find = stash.operation(
  'skerrylight.find',
  async (name: string) => {
    say('up')
    return name
  },
  { freshFor: '1 day', atLimit: 'refuse' },
)
let isOver = false
process.stdin.resume().on('end', () => {
  isOver = true
})
let calls = 0
for (let refused = 0; refused < 10 || !isOver; calls++) {
  await find(`${process.pid} ${calls}`).catch((error: { code?: string }) => {
    say(error.code === 'LIMIT_REACHED' ? 'refused' : String(error))
    refused++
  })
  await new Promise((resolve) => setTimeout(resolve, 5))
}
await stash.close()
say(`asked ${calls}`)
