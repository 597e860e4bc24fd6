import type { Comparison, Report } from '../core/ledger/report-model.js'
import { ageText, countOf, countText, shareText, wrapped } from './format.js'

/** What happened, in words: errors, quotas, failures and waiting, without the stash and with it. */
export function whatHappened({ totals: { without, with: reused, saved }, providers }: Report): string[] {
  if (!reused || !saved) return []
  const errors = `Callers got an error ${timesText(without.errored)} without the stash, ${timesText(reused.errored)} with it.`
  const quotas = providers.flatMap(({ provider, quota }) => {
    if (!quota || quota.used.measuring <= quota.limit) return []
    const { limit, per, used } = quota
    const others = `with it, ${countText(used.reusing)} (${shareText(used.reusing, limit)})`
    return `Without it, ${provider}'s quota of ${countText(limit)} calls a ${per} was exceeded: ${countText(used.measuring)}; ${others}.`
  })
  const inFailures = reused.stale - reused.staleByChoice
  const stale =
    reused.oldestStaleMs === null
      ? []
      : [
          ...(inFailures > 0 ? [`${countOf(inFailures, 'stale response')} helped out while an API failed or a limit was reached`] : []),
          ...(reused.staleByChoice > 0 ? [`${countOf(reused.staleByChoice, 'stale response')} served while being refreshed`] : []),
        ].map((what, i, all) => (i === all.length - 1 ? `${what}, the oldest ${ageText(reused.oldestStaleMs ?? 0)} old.` : `${what}.`))
  const waited = saved.timeMs !== null && saved.timeMs > 0 ? [`Callers waited ${ageText(saved.timeMs)} less in all.`] : []
  return [...((without.errored ?? 0) + reused.errored > 0 ? [errors] : []), ...quotas, ...stale, ...waited]
}

function timesText(count: number | null): string {
  if (count === null) return 'an unknown number of times'
  return count === 0 ? 'never' : count === 1 ? 'once' : `${countText(count)} times`
}

/** What else is to be said of all calls. */
export function figureLines({ without, with: reused, saved }: Comparison): string[] {
  if (!reused || !saved) return []
  const lines = [
    ...(reused.withheld > 0
      ? [`refused by Stashen itself or left before leaving: ${countText(reused.withheld)}, which saved nothing`]
      : []),
  ]
  if (reused.background + reused.repeated > 0) {
    const spent = [
      ...(reused.background > 0 ? [`${countText(reused.background)} made in the background`] : []),
      ...(reused.repeated > 0 ? [`${countText(reused.repeated)} repeated after failures`] : []),
    ]
    lines.push(`of the upstream calls ${spent.join(', ')}`)
  }
  if (reused.firstCalls > 0)
    lines.push(`callers who waited because nothing was stored yet: ${countText(reused.firstCalls)}, ${ageText(reused.firstWaitMs)} in all`)
  if (reused.near + reused.far > 0) {
    const again = reused.reread > 0 ? `, ${countText(reused.reread)} of these again and unchanged` : ''
    lines.push(`answers from store: ${countText(reused.near)} near, ${countText(reused.far)} far${again}`)
  }
  if (reused.fallback > 0) lines.push(`defaults given in place of an answer: ${countText(reused.fallback)}`)
  if (without.basis === 'estimated') {
    const refused =
      without.refused > 0 ? `, but ${countText(without.refused)} that limits and quotas would have refused, which cost nothing` : ''
    lines.push('', ...wrapped(`* not measured: the calls that left, by how they ended, and those that were saved${refused}`))
  }
  return lines
}
