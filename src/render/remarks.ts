import type { EndpointReport, Figures, Report } from '../core/ledger/report-model.js'
import { ageText, countOf, countText, moneyText, shareText } from './format.js'

/** What a reader must know beside the figures: what was left out of them, and answers that were paid for and lost. */
export function notesOf(report: Report): string[] {
  const { providers, totals } = report
  const kept = providers.flatMap(({ provider, endpoints }) =>
    endpoints.flatMap(({ endpoint, with: reused }) => {
      const words = reused && notKept(reused)
      return words === undefined || words === null ? [] : [`${provider}.${endpoint}: ${words}`]
    }),
  )
  const outdated = providers.flatMap(({ provider, endpoints }) =>
    endpoints.flatMap((one) => {
      const words = outdatedOf(one)
      return words === undefined ? [] : [`${provider}.${one.endpoint}: ${words}`]
    }),
  )
  const unknown = providers.flatMap(({ provider, endpoints }) =>
    endpoints.flatMap(({ endpoint, with: reused, without }) => {
      const words = unknownUsage(reused ?? ('unitsUnknown' in without ? without : undefined))
      return words === undefined ? [] : [`${provider}.${endpoint}: ${words}`]
    }),
  )
  const { with: reused } = totals
  const notes = [leftOutOf(report), reused && tooSmall(reused), reused && nearTooShort(reused), ...outdated, ...kept, ...unknown]
  return notes.filter((note) => typeof note === 'string')
}

/** That reuse would have given outdated answers, and what that may come from. */
function outdatedOf({ without, with: reused, outdatedExample }: EndpointReport): string | undefined {
  const { wouldBeOutdated, wouldHit } = 'wouldBeOutdated' in without ? without : (reused ?? { wouldBeOutdated: 0, wouldHit: 0 })
  if (wouldBeOutdated === 0) return undefined
  const count = `reuse would have given ${countText(wouldBeOutdated)} outdated ${wouldBeOutdated === 1 ? 'answer' : 'answers'} of ${countText(wouldHit)}`
  if (!outdatedExample) return count
  const { first, second } = outdatedExample
  const later = ageText(Math.round((second.at.getTime() - first.at.getTime()) / 1000) * 1000)
  return first.request === second.request
    ? `${count}: its lifetime may be too long, e.g. "${first.request}" had changed after ${later}`
    : `${count}: its key may lack something, e.g. what distinguishes "${first.request}" from "${second.request}"`
}

/** That units of calls are not known, so that their price is estimated. */
function unknownUsage(figures: Figures | undefined): string | undefined {
  if (!figures || figures.unitsUnknown === 0) return undefined
  const { unitsUnknown: calls } = figures
  const which = calls === 1 ? 'answer does not say how many units it used' : 'answers do not say how many units they used'
  return `its money is estimated: ${countText(calls)} ${which}; charged is the most that a call can use (\`upTo\`), or nothing where that is not said`
}

/** That the store had no room for answers that were fresh still. */
function tooSmall({ evicted, trimmed, refetched, paidTwice }: Figures): string | undefined {
  if (evicted === 0) return undefined
  const dropped =
    evicted === 1 ? 'an answer was dropped before it expired' : `${countText(evicted)} answers were dropped before they expired`
  const paid = paidTwice.filter(({ amount }) => Number(amount) > 0)
  const cost = paid.length > 0 ? `: ${moneyText(paid)} was paid twice` : ''
  const again = refetched === 0 ? '' : `, ${countText(refetched)} fetched again${cost}`
  const what = trimmed === evicted ? '`maxEntries`, or 100 variants of an answer, is too little' : 'the store is too small'
  return `${what}: ${dropped}${again}`
}

/** That most answers from store were read from the far layer again, though their copies were still right. */
function nearTooShort({ near, far, reread }: Figures): string | undefined {
  const all = near + far
  if (reread < leastReread || reread <= all / 2) return undefined
  return `copies are kept near for too short a time: ${countText(reread)} of ${countText(all)} answers from store were read again from the far store and had not changed. Raise \`nearFor\``
}

/** With fewer, nothing is said of how long copies are kept. */
const leastReread = 10

/** That some of a ledger could not be read and is left out; undefined where all could. */
function leftOutOf({ unreadable }: Report): string | undefined {
  if (!unreadable) return undefined
  const { rows, facts } = unreadable
  const parts = [
    ...(rows > 0 ? [`${countText(rows)} ${rows === 1 ? 'row' : 'rows'} of counts`] : []),
    ...(facts > 0 ? [`${countText(facts)} ${facts === 1 ? 'record' : 'records'} of plans and limits`] : []),
  ]
  return `left out, for they cannot be read: ${parts.join(', ')}`
}

/** What the figures of an endpoint suggest, in plain words; empty where nothing stands out. */
export function remarkOf(endpoint: EndpointReport): string {
  const { with: reused, saved, couldSave, without } = endpoint
  const { outdatedExample: _inNotes, ...unexplained } = endpoint
  const outdated = outdatedOf(unexplained)
  if (outdated !== undefined) return outdated
  if (!reused)
    return couldSave && couldSave.upstreamCalls > 0
      ? `reuse would have avoided ${shareText(couldSave.upstreamCalls, without.upstream)} of its calls`
      : ''
  return lossOf({ saved, with: reused }) ?? tooSmall(reused) ?? troubles(reused) ?? notKept(reused) ?? speed(reused) ?? ''
}

/** That an endpoint costs more with the stash than without, and by what; undefined where it does not. */
export function lossOf({ saved, with: reused }: Pick<EndpointReport, 'saved' | 'with'>): string | undefined {
  const lost = saved?.money.find(({ amount }) => Number(amount) < 0)
  if (!lost || !reused) return undefined
  const { background, repeated } = reused
  const causes = [
    ...(background > 0 ? [`${countOf(background, 'call')} in the background`] : []),
    ...(repeated > 0 ? [`${countText(repeated)} repetitions`] : []),
  ]
  const why = causes.length > 0 ? `for ${causes.join(' and ')}` : 'for its share of the tiers or allowance'
  return `costs ${lost.currency} ${lost.amount.slice(1)} more than without, ${why}`
}

/** That many answers are paid for again because they cannot be stored. */
function notKept({ notStored, upstream }: Figures): string | undefined {
  const reasons = Object.entries(notStored).sort(([, a], [, b]) => b - a)
  const [why] = reasons[0] ?? []
  const count = reasons.reduce((sum, [, number]) => sum + number, 0)
  return why !== undefined && count / upstream > 0.05
    ? `${countText(count)} of its answers were not stored, mostly for "${why}"`
    : undefined
}

function troubles({ asked, errored, stale }: Figures): string | undefined {
  if (asked > 0 && errored / asked > 0.05) return `${shareText(errored, asked)} of its calls ended in an error`
  if (asked > 0 && stale / asked > 0.2) return `${shareText(stale, asked)} of its answers were older ones: its upstream fails often`
  return undefined
}

/** How often what was refreshed had changed. */
function speed({ changed, unchanged }: Figures): string | undefined {
  const refreshed = changed + unchanged
  if (refreshed < 5) return undefined
  const times = changed === 0 ? 'never' : changed === 1 ? 'once' : `${countText(changed)} times`
  if (changed / refreshed < 0.1) return `refreshed ${countText(refreshed)} times, changed ${times}: could be fresh for longer`
  if (changed / refreshed > 0.9) return `refreshed ${countText(refreshed)} times, changed ${times}: may change while it is held to be fresh`
  return undefined
}
