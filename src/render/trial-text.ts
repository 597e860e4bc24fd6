import { reasons } from '../core/decide/reasons.js'
import type { Tried, TryStep } from '../core/traffic/tried.js'
import { ageText, countOf, countText, latencyText } from './format.js'
import { textTable } from './plain-table.js'
import { printable } from './printable.js'
import type { Colors } from './text-options.js'

/** How a URL was answered in all the ways that were tried, as text for a terminal. */
export function trialText(given: Tried, { colors, url }: { colors: Colors; url: string }): string {
  const { endpoint, freshForMs, notStored, steps, load, upstreamCalls } = printable(given)
  const fresh = freshForMs === undefined ? `not stored${notStored ? ` (${notStored})` : ''}` : `fresh for ${lifetimeText(freshForMs)}`
  const names: Record<TryStep['name'], string> = {
    bare: 'bare',
    first: 'through the stash',
    again: 'the same again',
    expired: freshForMs === undefined ? 'once expired' : `after ${lifetimeText(freshForMs)}`,
    'cut-off': 'provider cut off',
  }
  const rows = steps.map(({ name, ms, status, how, reason, ageMs, error }) => [
    names[name],
    latencyText(ms),
    sourceOf(how),
    status === undefined ? (error === undefined ? '' : 'error') : String(status),
    how === 'hit' || how === 'stale' ? ageText(ageMs ?? 0) : '',
    reason ?? '',
  ])
  const table = textTable(['', 'took', 'source', 'status', 'age', 'reason'], rows, {
    ...{ dim: colors.dim, aligns: ['left', 'right', 'left', 'left', 'right', 'left'] },
  })
  const used = [...new Set(steps.flatMap(({ reason }) => reason ?? []))]
  const legend = used.map((reason) => `${reason}: ${reasons[reason]}`).join('\n')
  const errors = [...new Set(steps.flatMap(({ error }) => error ?? []))].map((error) => `error: ${error}\n`).join('')
  const { calls, atOnce, ms, medianMs, failed } = load
  const many = `${countOf(calls, 'call')}, ${countText(atOnce)} at once, in ${latencyText(ms)}: ${countText(Math.round(calls / (ms / 1_000)))} a second, median ${latencyText(medianMs)}`
  const failures = failed === 0 ? '' : `, ${countText(failed)} failed`
  return `${colors.bold(url)}
${endpoint}, ${fresh}

${table}

${many}${failures}
${countOf(upstreamCalls, 'call')} left for the provider in all

${errors}${colors.dim(legend)}
`
}

/** A lifetime of which the time is gone that the answer took to come. */
function lifetimeText(ms: number): string {
  const precisionMs = ms > 60_000 ? 5_000 : 1_000
  return ageText(Math.round(ms / precisionMs) * precisionMs)
}

function sourceOf(how: TryStep['how']): string {
  switch (how) {
    case 'hit':
    case 'stale':
      return 'store'
    case 'collapsed':
      return 'shared call'
    case 'fallback':
      return 'default'
    case 'refused':
    case 'failed':
    case 'abandoned':
      return 'none'
    default:
      return 'provider'
  }
}
