import * as z from 'zod/mini'
import { defaults } from '../core/defaults.js'
import { refusals } from '../core/endpoints/options.js'
import type { Clock } from '../core/ports/clock.js'
import type { Journal } from '../core/ports/journal.js'
import type { Store } from '../core/ports/store.js'
import { modes } from '../core/rules/mode.js'
import type { Fetch } from '../engine/http/http-upstream.js'
import { operationLabels } from './label-schema.js'
import { currency } from './plan-schema.js'
import { provider } from './provider-schema.js'
import { reuse, rule } from './reuse-schema.js'
import { duration, isFunction, name, oneOf, option, part, price, required, yesOrNo, zone } from './schema-parts.js'

const ledger = z.strictObject({
  minutesFor: option(duration, 'How long the ledger keeps minutes.', defaults.minutesFor),
  hoursFor: option(duration, 'How long the ledger keeps hours; days are kept forever.', defaults.hoursFor),
  zone: option(zone, 'IANA time zone whose days are kept apart besides those of plans and quotas.'),
})

/** The shape of a `StashConfig`. What only several options together show is checked in `cross-checks.ts`. */
export const configSchema = z.strictObject({
  $schema: option(z.string(), 'Where the JSON Schema of the file is, for editors.'),
  store: option(
    part<Store>('a store: give memoryStore(), sqliteStore(file) or another', isObject),
    'Where answers and the ledger are kept; a configuration file may name a file or an address of Redis. Default: in memory.',
  ),
  mode: option(
    oneOf(modes),
    'What is done with calls: "measure" reuses nothing and counts, "reuse" reuses answers, "offline" gives stored answers only.',
    defaults.mode,
  ),
  refusals: option(
    oneOf(refusals),
    'What calls end in that Stashen itself refuses: "throw" an error, or "respond" with status 429, 503 or 504.',
    defaults.refusals,
  ),
  sets: option(z.record(name, z.strictObject(reuse)), 'Named sets of options that endpoints and defaults refer to with `set`.'),
  providers: option(z.record(name, provider), 'Third-party APIs by name.'),
  exchange: option(
    z.strictObject({
      currency: required(currency, 'ISO 4217 code of the currency.'),
      rates: required(z.record(currency, price), 'What one unit of each other currency is in it, decimals in quotes.'),
    }),
    'A currency that all money is given in besides its own.',
  ),
  ledger: option(ledger, 'How long the ledger keeps details.'),
  journal: option(
    part<Journal>('a journal: give fileJournal(file)', isObject),
    'Where every call is written down, a line each. Default: nowhere.',
  ),
  fetch: option(
    part<Fetch>('a function', isFunction),
    'What really calls upstream. Default: the `fetch` that is global when the stash is opened.',
  ),
  clock: option(part<Clock>('a clock', isObject), "The time. Default: the system's."),
  storeTimeout: option(duration, 'How long the store may take for one thing before calls go on without it.', defaults.storeTimeout),
  openWithoutStore: option(yesOrNo, 'Whether a store that cannot be opened is tried again later, while calls go on without it.', false),
  closeWithin: option(duration, 'How long closing waits for calls under way before it gives them up.', defaults.closeWithin),
  random: option(part<() => number>('a function', isFunction), 'Returns a number from 0 to 1, another each time. Default: `Math.random`.'),
  warn: option(
    part<(message: string) => void>('a function', isFunction),
    'Called, once an episode, with trouble that no call sees. Default: `console.warn`.',
  ),
})

/** The shape of an operation's options. */
export const operationSchema = z.strictObject({
  ...rule,
  ...operationLabels,
  keyedBy: option(
    part<(...args: never[]) => unknown>('a function', isFunction),
    'Returns what distinguishes one answer from another, as plain JSON data, in place of the arguments.',
  ),
  exceptArguments: option(part<(...args: never[]) => boolean>('a function', isFunction), 'Says of which arguments nothing is reused.'),
  form: option(
    z.strictObject({
      toPlain: required(part<(value: never) => unknown>('a function', isFunction), 'Returns plain data that says all of a value.'),
      fromPlain: required(part<(plain: never) => unknown>('a function', isFunction), 'Makes a value of what "toPlain" returned.'),
    }),
    'How values are stored that are not plain data, such as instances of classes. Default: as they are, where they can be given back exactly.',
  ),
  fallback: option(
    part<{ readonly value: unknown }>('an object with a "value"', (value) => isObject(value) && Object.hasOwn(value as object, 'value')),
    'What a caller gets where the function fails and no older value may be given: { value }. Default: the failure itself.',
  ),
})

function isObject(value: unknown): boolean {
  return typeof value === 'object' && value !== null
}
