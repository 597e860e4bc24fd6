import type { ConfigFault } from '../core/errors/setup-errors.js'
import { textTable } from './plain-table.js'
import { printable } from './printable.js'
import type { Colors } from './text-options.js'

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

/** A quota or a budget of a provider, in words. */
export interface BoundLine {
  readonly provider: string
  readonly bound: string
}

export interface PlanLine {
  readonly provider: string
  /** In words. */
  readonly plan: string
}

export interface RulesModel {
  readonly rules: readonly RuleLine[]
  /** What counts in keys besides, in words. */
  readonly keys: readonly string[]
  readonly limits: readonly LimitLine[]
  readonly bounds: readonly BoundLine[]
  readonly plans: readonly PlanLine[]
  readonly warnings: readonly ConfigFault[]
}

/** The resolved rules as a table, limits and plans in words, and what is likely wrong. */
export function rulesText(given: RulesModel, colors: Colors): string {
  const { rules, keys, limits, bounds, plans, warnings } = printable(given)
  const head = ['provider', 'endpoint', 'request', 'mode', 'fresh', 'stale if error', 'keyed by', 'a call']
  const cells = rules.map((rule) => [
    ...[rule.provider, rule.endpoint, rule.request, rule.mode, rule.fresh, rule.staleIfError, rule.keyedBy, rule.price],
  ])
  const likely = warnings.map(({ path, message }) => `${colors.yellow('likely wrong:')} ${path} ${message}`)
  const priced = plans.map(({ provider, plan }) => `plan of ${provider}: ${plan}`)
  const held = limits.map(
    ({ provider, endpoint, limit }) => `limit of ${endpoint === null ? provider : `${provider}.${endpoint}`}: ${limit}`,
  )
  const bounded = bounds.map(({ provider, bound }) => `${provider}: ${bound}`)
  return `${[textTable(head, cells, colors), '', ...keys.map((key) => wrapped(`keys: ${key}`)), ...held, ...bounded, ...priced, '', ...likely, `${rules.length} endpoints, no faults, ${warnings.length} likely wrong`].join('\n')}\n`
}

/** Columns of lines that are told in words. */
const longestLine = 120

/** Text in lines that break between words, the later ones indented. */
function wrapped(text: string): string {
  const lines: string[] = ['']
  for (const word of text.split(' ')) {
    const line = lines.at(-1) as string
    if (line !== '' && line.length + 1 + word.length > longestLine) lines.push(`      ${word}`)
    else lines[lines.length - 1] = line === '' ? word : `${line} ${word}`
  }
  return lines.join('\n')
}
