import type { CallOptions, RuleOptions } from '../core/endpoints/options.js'
import { ConfigError, type ConfigFault, UsageError } from '../core/errors/setup-errors.js'
import { shown } from '../core/errors/shown.js'
import type { Store } from '../core/ports/store.js'
import { type Duration, durationMs } from '../core/time/duration.js'
import type { Timetable } from '../core/time/timetable.js'
import { providerFaults, ruleFaults, setsOf } from './cross-checks.js'
import { labelFaults } from './label-checks.js'
import { withNearest } from './nearest-name.js'
import { isPromise, shapeFault } from './part-shapes.js'
import { callOptionsSchema } from './reuse-schema.js'
import { configSchema, operationSchema } from './schema.js'
import { name } from './schema-parts.js'
import { shapeFaults } from './shape-faults.js'
import type { StashConfig } from './stash-config.js'
import { storeForm } from './store-name.js'
import { timetable } from './timetable-schema.js'

/** Checks a whole configuration; throws `ConfigError` with every fault at once. */
export function checkConfig(config: unknown): asserts config is StashConfig {
  throwIfAny(faultsOf(config))
}

function faultsOf(config: unknown): ConfigFault[] {
  return [...shapeFaults(configSchema, config, ''), ...partFaults(config), ...providerFaults(config)]
}

/** What a configuration file holds: its store may be named. */
export type FileConfig = Omit<StashConfig, 'store'> & { readonly store?: Store | string }

/** As `checkConfig`, of a file. */
export function checkFileConfig(config: unknown): asserts config is FileConfig {
  const { store, ...rest } = (typeof config === 'object' && config !== null ? config : {}) as Partial<FileConfig>
  if (typeof store !== 'string') return checkConfig(config)
  const fault = store.trim() === '' ? [{ path: 'store', message: `is empty: name ${storeForm}` }] : []
  throwIfAny([...fault, ...faultsOf(rest)])
}

/** What is handed in as code and has not all that is called of it. */
function partFaults(config: unknown): ConfigFault[] {
  if (isPromise(config)) return [{ path: '', message: 'is a promise: wait for it first, with "await"' }]
  return (['store', 'clock', 'journal'] as const).flatMap((path) => {
    const message = shapeFault(path, (config as Record<string, unknown> | null | undefined)?.[path])
    return message === undefined ? [] : [{ path, message }]
  })
}

/** Checks what one call wants otherwise than its rule says. */
export function checkCallOptions(options: CallOptions): void {
  throwIfAny(shapeFaults(callOptionsSchema, options, ''), { what: 'the call options', undone: 'called' })
}

/** Checks when something is to be done again and again. */
export function checkWhen(when: unknown): asserts when is Duration | Timetable {
  if (typeof when !== 'object' || when === null) {
    const ms = durationMs(when as Duration)
    if (ms === undefined || ms === 0)
      throw new UsageError(
        `when to warm is ${shown(when)}: give a duration such as "1 hour", or a timetable such as { daily: '05:30', zone: 'Europe/Oslo' }`,
      )
  } else throwIfAny(shapeFaults(timetable, when, ''), { what: 'the timetable', undone: 'fetched' })
}

/** The options of an operation, as far as they are checked together. */
type OwnOptions = RuleOptions & { readonly labels?: unknown; readonly invalidates?: unknown }

/** Checks the name, function and options of an operation. `taken` are the names already in use. */
export function checkOperation(id: unknown, fn: unknown, options: OwnOptions, taken: ReadonlySet<string>, config: StashConfig): void {
  const { providers = {} } = config
  const path = `operation ${shown(id)}`
  const faults = shapeFaults(operationSchema, options, path)
  if (isPromise(fn)) faults.push({ path, message: 'wraps a promise, not a function: give the function that makes it, as in () => find()' })
  else if (typeof fn !== 'function')
    faults.push({ path, message: `wraps ${fn === null || fn === undefined ? String(fn) : `a ${typeof fn}`}, not a function` })
  if (typeof options !== 'object' || options === null || faults.some(({ path: at }) => at === path)) throwIfAny(faults, ofOperation)
  const [provider = '', operation = '', ...more] = (typeof id === 'string' ? id : '').split('.')
  if (more.length > 0 || !name.safeParse(provider).success || !name.safeParse(operation).success) {
    faults.push({ path, message: 'is not a name of the form "provider.operation"' })
  } else if (taken.has(`${provider}.${operation}`)) {
    faults.push({ path, message: 'this name is in use already: give each endpoint and operation one of its own' })
  } else if (!Object.hasOwn(providers, provider)) {
    const hint = withNearest(provider, Object.keys(providers))
    if (hint) faults.push({ path, message: `no provider "${provider}" is configured${hint}` })
  }
  faults.push(...httpOnlyFaults(options, path))
  const { freshFor, freshUntil, invalidates } = options
  const isWrite = invalidates !== undefined && (freshFor ?? freshUntil) === undefined
  faults.push(...labelFaults(options, { parameters: [], isWrite, of: 'an operation, which has no path' }, path))
  throwIfAny(
    [...faults, ...ruleFaults(options, (Object.hasOwn(providers, provider) && providers[provider]) || {}, setsOf(config), path)],
    ofOperation,
  )
}

const ofOperation = { what: 'an operation', undone: 'wrapped' }

/** Options that speak of HTTP, which an operation has not. */
function httpOnlyFaults({ trust, freshForStatus, reuse }: RuleOptions, path: string): ConfigFault[] {
  const given = {
    trust: trust !== undefined,
    freshForStatus: freshForStatus !== undefined,
    reuse: typeof reuse === 'object' && reuse.exceptRequest,
  }
  return Object.entries(given).flatMap(([option, isGiven]) =>
    isGiven
      ? [
          {
            path: `${path}.${option}${option === 'reuse' ? '.exceptRequest' : ''}`,
            message: 'is for endpoints: an operation has no request, status or header fields',
          },
        ]
      : [],
  )
}

function throwIfAny(faults: readonly ConfigFault[], of?: ConstructorParameters<typeof ConfigError>[1]): void {
  if (faults.length > 0) throw new ConfigError(faults, of)
}
