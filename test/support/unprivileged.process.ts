import { openStash } from 'stashen'
import { sqliteStore } from 'stashen/sqlite'

/** Opens a store file as a user who owns nothing, for root may write everything, and writes how it went. */
const [file = ''] = process.argv.slice(2)
await (await openStash({ store: sqliteStore(':memory:') })).close()
if (process.getuid?.() === 0) {
  process.setgid?.(65_534)
  process.setuid?.(65_534)
}
const stash = openStash({ store: sqliteStore(file) })
console.log(
  await stash.then(
    () => 'opened',
    (error: Error) => error.message,
  ),
)
