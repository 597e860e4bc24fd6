import { loadConfig } from '../config-file/load-config.js'
import { openStash } from '../open-stash.js'
import { coverGlobally } from './cover-globally.js'

export { type CoverOptions, coverGlobally } from './cover-globally.js'

// "node --import stashen/cover app.js": a program that is not modified is covered by the configuration that is found
if (isPreloaded()) {
  const stash = await openStash(await loadConfig())
  await coverGlobally(stash, { http: 'if-possible' })
  process.once('beforeExit', () => void stash.close())
}

function isPreloaded(): boolean {
  const options = [...process.execArgv, ...(process.env.NODE_OPTIONS ?? '').split(/\s+/)]
  return options.some(
    (option, i) => /^(--import=)?stashen\/cover$/.test(option) && (option.startsWith('--') || options[i - 1] === '--import'),
  )
}
