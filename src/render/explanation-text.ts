import type { Explanation } from '../core/decide/explanation.js'
import { ageText, momentText } from './format.js'
import { printable } from './printable.js'
import type { Colors } from './text-options.js'

const doings = { serve: 'answered from store', call: 'sent upstream', pass: 'passed on untouched', refuse: 'refused' } as const

/** An explanation as text for a terminal; moments in `zone` (IANA). */
export function explanationText(given: Explanation, { colors, zone, now }: { colors: Colors; zone: string; now: number }): string {
  const { provider, endpoint, nearMisses, mode, key, leftOut, stored, would, because, reason, blockedBy, olderAnswerOnFailure } =
    printable(given)
  const until = (at: Date) => {
    const left = at.getTime() - now
    return `until ${momentText(at, zone)} (${left > 0 ? `for ${ageText(left)} more` : `over for ${ageText(-left)}`})`
  }
  const rows: [string, string][] = [
    ['endpoint', endpoint ? `${provider}.${endpoint}, mode ${mode}` : provider ? `none of ${provider}` : 'none'],
    ...nearMisses.map((near): [string, string] => ['nearly', `${near.provider}.${near.endpoint}: ${near.difference}`]),
    ['key', key ?? 'none'],
    ...(leftOut.length > 0 ? [['left out', leftOut.join(', ')] as [string, string]] : []),
    ['stored', stored ? `${ageText(stored.ageMs)} ago, ${stored.bytes} bytes${stored.key === key ? '' : ` as ${stored.key}`}` : 'nothing'],
    ...(stored
      ? ([
          ['fresh', `${until(stored.freshUntil)}, by ${stored.freshBy === 'rule' ? 'the rule' : `the upstream's ${stored.freshBy}`}`],
          ...(stored.refreshableUntil > stored.freshUntil ? [['refreshable', until(stored.refreshableUntil)]] : []),
          ['usable', stored.mustRevalidate ? 'only while fresh, or once the upstream has confirmed it' : until(stored.usableUntil)],
        ] as [string, string][])
      : []),
    ['a call now', `would be ${colors.bold(doings[would])}: ${because} (${reason})`],
    ...(blockedBy && would !== 'serve'
      ? [['blocked by', [blockedBy.what, blockedBy.until && until(blockedBy.until)].filter(Boolean).join(', ')] as [string, string]]
      : []),
    ...(would === 'call' ? [['if it fails', olderAnswerOnFailure ? 'the older answer' : 'the error itself'] as [string, string]] : []),
  ]
  return `${rows.map(([name, text]) => `${colors.dim(name.padEnd(11))}  ${text}`).join('\n')}\n`
}
