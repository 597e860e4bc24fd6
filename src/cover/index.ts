import { loadConfig } from '../config-file/load-config.js'
import { passToChildren } from '../measure/pass-to-children.js'
import { openStash } from '../open-stash.js'
import { coverGlobally } from './cover-globally.js'

export { type CoverOptions, coverGlobally } from './cover-globally.js'

// "node --import stashen/cover app.js": a program that is not modified is covered by the configuration that is found
if (isPreloaded()) {
  const stash = await openStash(await loadConfig())
  await coverGlobally(stash)
  process.once('beforeExit', () => void stash.close())
  const { NODE_OPTIONS: inherited = '' } = process.env
  if (/stashen\/cover/.test(inherited)) passToChildren('--import=stashen/cover', {})
}

function isPreloaded(): boolean {
  const options = [...process.execArgv, ...(process.env.NODE_OPTIONS ?? '').split(/\s+/)]
  return options.some(
    (option, i) => /^(--import=)?stashen\/cover$/.test(option) && (option.startsWith('--') || options[i - 1] === '--import'),
  )
}
