import Table from 'cli-table3'
import type { ConfigFault } from '../core/errors.js'
import { noLines } from './plain-table.js'
import type { Colors } from './report-text.js'

/** One endpoint as its rules hold, in words. */
export interface RuleLine {
  readonly provider: string
  readonly endpoint: string
  readonly request: string
  readonly mode: string
  readonly fresh: string
  readonly staleIfError: string
  readonly keyedBy: string
  readonly price: string
}

/** A limit of a provider, or of one of its endpoints. */
export interface LimitLine {
  readonly provider: string
  readonly endpoint: string | null
  readonly limit: string
}

/** The resolved rules as a table, the limits, and what is likely wrong. */
export function rulesText(
  rules: readonly RuleLine[],
  limits: readonly LimitLine[],
  warnings: readonly ConfigFault[],
  colors: Colors,
): string {
  const head = ['provider', 'endpoint', 'request', 'mode', 'fresh', 'stale if error', 'keyed by', 'a call']
  const table = new Table({
    head: head.map((name) => colors.dim(name)),
    style: { head: [], border: [], compact: true, 'padding-left': 0, 'padding-right': 2 },
    chars: noLines,
  })
  for (const rule of rules) {
    table.push([rule.provider, rule.endpoint, rule.request, rule.mode, rule.fresh, rule.staleIfError, rule.keyedBy, rule.price])
  }
  const likely = warnings.map(({ path, message }) => `${colors.yellow('likely wrong:')} ${path} ${message}`)
  const held = limits.map(
    ({ provider, endpoint, limit }) => `limit of ${endpoint === null ? provider : `${provider}.${endpoint}`}: ${limit}`,
  )
  return `${[table.toString().replace(/ +$/gm, ''), '', ...held, ...(held.length > 0 ? [''] : []), ...likely, `${rules.length} endpoints, no faults, ${warnings.length} likely wrong`].join('\n')}\n`
}
