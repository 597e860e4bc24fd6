import { existsSync } from 'node:fs'
import type { Command } from 'commander'
import pc from 'picocolors'
import type { StashConfig } from '../config/stash-config.js'
import { isAddress } from '../config/store-name.js'
import { likelyMistakes } from '../config/warnings.js'
import { findConfig } from '../config-file/find-config.js'
import { endpointRules } from '../core/endpoints/endpoint-rules.js'
import type { ReuseOptions } from '../core/endpoints/options.js'
import type { ConfigFault } from '../core/errors/setup-errors.js'
import { compileBudget } from '../core/limits/budget.js'
import { compileLimit, compileQuota } from '../core/limits/limit.js'
import type { PlanOptions } from '../core/money/plan.js'
import type { Store } from '../core/ports/store.js'
import type { Protocol } from '../core/protocols/protocol.js'
import type { KeyingOptions } from '../core/rules/keying.js'
import { splitAdvice } from '../core/traffic/key-splits.js'
import { storedSplits } from '../queries/key-splits.js'
import { planWords } from '../render/plan-text.js'
import { printableJson } from '../render/printable.js'
import { type BoundLine, type LimitLine, type PlanLine, type RuleLine, rulesText } from '../render/rules-text.js'
import type { CliContext } from './cli-context.js'
import { configOf } from './config-file.js'
import { openToRead } from './open-store.js'

/** `stashen check`: all faults of a configuration file, or its resolved rules and what is likely wrong. */
export function addCheck(command: Command, { stdout }: CliContext): void {
  command
    .option('--config <file>', 'the configuration file (default: stashen.config.* in this folder or above)')
    .option(
      '--openapi <file>',
      'say instead what rules cover of an API that an OpenAPI 3 document describes, and propose endpoints for the rest',
    )
    .option('--json', 'print rules and warnings as JSON')
    .action(async ({ config: file, openapi, json = false }: { config?: string; openapi?: string; json?: boolean }) => {
      const isRuled = openapi === undefined || file !== undefined || findConfig() !== undefined
      const { config, store } = isRuled ? await configOf(file) : { config: {}, store: undefined }
      if (openapi !== undefined) {
        const { openApiText } = await import('./openapi-check.js')
        stdout.write(openApiText(openapi, config, json))
        return
      }
      const rules = rulesOf(config)
      const warnings = [...likelyMistakes(config), ...(await splitsOf(config, store, file))]
      const [limits, bounds, plans, keys] = [limitsOf(config), boundsOf(config), plansOf(config), keysOf(config)]
      stdout.write(
        json
          ? `${printableJson({ rules, keys, limits, bounds, plans, warnings })}\n`
          : rulesText({ rules, keys, limits, bounds, plans, warnings }, pc),
      )
    })
}

/** What splits keys without need, by what the store of the configuration holds, where there is one. */
async function splitsOf(
  { providers = {} }: StashConfig,
  store: Store | string | undefined,
  file: string | undefined,
): Promise<ConfigFault[]> {
  if (typeof store !== 'string' || (!isAddress(store) && !existsSync(store))) return []
  const opened = await openToRead({ config: file }).catch(() => undefined) // the check is of the configuration: its store may be down
  if (!opened) return []
  const faults: ConfigFault[] = []
  try {
    for (const [provider, options] of Object.entries(providers))
      for (const { name } of endpointRules(options, {}))
        for (const split of await storedSplits(opened, provider, name))
          faults.push({ path: `providers.${provider}.endpoints.${name}`, message: splitAdvice(`${provider}.${name}`, split) })
  } finally {
    await opened.close()
  }
  return faults
}

function rulesOf({ providers = {}, sets = {}, mode = 'reuse' }: StashConfig): RuleLine[] {
  return Object.entries(providers).flatMap(([name, provider]) =>
    endpointRules(provider, sets).map(({ name: endpointName, endpoint, operation, rule }) => {
      return {
        provider: name,
        endpoint: endpointName,
        request: operation ? `${endpoint.protocol} ${operation.name}` : endpoint.request,
        mode: rule.mode ?? provider.mode ?? mode,
        fresh: freshWords(rule),
        staleIfError: rule.staleIfError === undefined ? '-' : String(rule.staleIfError),
        keyedBy: keyWords(endpoint),
        price: priceWords(rule, provider.plan),
      }
    }),
  )
}

function priceWords({ perCall, weight }: ReuseOptions, plan: PlanOptions | undefined): string {
  if (!plan) return '-'
  if (perCall !== undefined) return `${plan.currency} ${perCall}`
  const { perCall: flat, included, changes } = plan
  const counted = weight === undefined ? '' : ` x ${weight}`
  return flat !== undefined && included === undefined && changes === undefined
    ? `${plan.currency} ${flat}${counted}`
    : `by the plan${counted}`
}

function plansOf({ providers = {} }: StashConfig): PlanLine[] {
  return Object.entries(providers).flatMap(([provider, { plan }]) => (plan ? [{ provider, plan: planWords(plan) }] : []))
}

/** What counts in keys besides what each rule says. */
function keysOf({ providers = {} }: StashConfig): string[] {
  return [
    'provider, endpoint and method count in every key',
    'so does every request field that the application sets, unless "keyedBy" lists others: all but those that choose no response, such as tracing and user-agent',
    'callers are distinguished by a digest of their credentials, which are recognised by the usual names',
    ...Object.entries(providers).flatMap(([name, { secretQuery = [], secretHeaders = [], notSecret = [], caller }]) => {
      const own = [...secretQuery.map((parameter) => `?${parameter}`), ...secretHeaders]
      const parts = [
        ...(own.length > 0 ? [`also by ${own.join(', ')}`] : []),
        ...(notSecret.length > 0 ? [`not by ${notSecret.join(', ')}`] : []),
        ...(caller ? ['and its "caller" function identifies callers'] : []),
      ]
      return parts.length > 0 ? [`credentials of ${name} are recognised ${parts.join(', ')}`] : []
    }),
  ]
}

/** Quotas and budgets, with the shares at which a budget does something. */
function boundsOf({ providers = {} }: StashConfig): BoundLine[] {
  return Object.entries(providers).flatMap(([provider, { quota, budgets = [], plan }]) => [
    ...(quota ? [{ provider, bound: `${compileQuota({ zone: 'UTC', ...quota }).name}, by the calendar of ${quota.zone ?? 'UTC'}` }] : []),
    ...budgets.map((options) => {
      const { name, warnAt, stretchAt, stopAt, zone } = compileBudget(options, plan)
      const stop = Number.isFinite(stopAt) ? `stops at ${percent(stopAt)}` : 'never stops'
      const levels = `warns at ${percent(warnAt)}, gives older answers from ${percent(stretchAt)}, ${stop}`
      return { provider, bound: `${name}: ${levels}; by the calendar of ${zone}` }
    }),
  ])
}

function percent(share: number): string {
  return `${Math.round(share * 1000) / 10}%`
}

function limitsOf({ providers = {}, sets = {} }: StashConfig): LimitLine[] {
  return Object.entries(providers).flatMap(([provider, options]) => [
    ...(options.limits ?? []).map((limit) => ({ provider, endpoint: null, limit: compileLimit(limit).name })),
    ...endpointRules(options, sets).flatMap(({ name, rule }) =>
      (rule.limits ?? []).map((limit) => ({
        ...{ provider, endpoint: name },
        limit: compileLimit(limit).name,
      })),
    ),
  ])
}

/** How long answers are fresh, whoever says so, and what holds for some statuses. */
function freshWords(rule: ReuseOptions): string {
  if (rule.reuse === 'never') return 'never'
  const { trust = 'rule', freshForStatus = {}, sliding } = rule
  const ruled = `${ruleWords(rule)}${sliding ? ` from each use, up to ${sliding.upTo}` : ''}`
  const said = {
    rule: ruled,
    upstream: `as upstream says${ruled === '-' ? '' : `, else ${ruled}`}`,
    shorter: `${ruled}, or shorter as upstream says`,
  }
  return [said[trust], ...Object.entries(freshForStatus).map(([status, fresh]) => `${status}: ${fresh}`)].join('; ')
}

function ruleWords({ freshFor, freshUntil }: ReuseOptions): string {
  if (typeof freshFor === 'function') return 'as its function says'
  if (freshFor !== undefined) return String(freshFor)
  if (!freshUntil) return '-'
  const when =
    freshUntil.daily !== undefined
      ? `${freshUntil.daily}`
      : freshUntil.weekly !== undefined
        ? `${freshUntil.weekly} ${freshUntil.at}`
        : `day ${freshUntil.monthly}, ${freshUntil.at}`
  return `until ${when} ${freshUntil.zone}`
}

function keyWords({ keyedBy, shared, per, safe, protocol }: KeyingOptions & { safe?: boolean; protocol?: Protocol }): string {
  const whole = protocol ? ['what is asked'] : safe ? ['URL and body'] : ['URL']
  const parts =
    typeof keyedBy === 'function'
      ? ['its function']
      : Object.entries(keyedBy ?? {}).map(([part, what]) => `${part} ${JSON.stringify(what).replace(/["{}[\]]/g, '')}`)
  return [...(keyedBy === undefined ? whole : parts), ...(shared ? ['shared'] : []), ...(per ? ['per tenant'] : [])].join(', ')
}
