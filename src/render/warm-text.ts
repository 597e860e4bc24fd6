import type { WarmSummary } from '../core/entries/warm-summary.js'
import { countText } from './format.js'
import { printable } from './printable.js'

/** What warming came to, as text for a terminal. */
export function warmText({ asked, stored, fresh, notStored, failed, isStopped, ms }: WarmSummary, warnings: readonly string[]): string {
  const lines = [
    `${countText(stored)} of ${countText(asked)} ${asked === 1 ? 'answer' : 'answers'} fetched and stored in ${(ms / 1_000).toFixed(1)} s${isStopped ? ', then stopped' : ''}`,
    ...(fresh > 0 ? [`  ${countText(fresh)} fresh already`] : []),
    ...Object.entries(notStored).map(([why, count]) => `  ${countText(count)} not stored: ${why}`),
    ...Object.entries(failed).map(([why, count]) => `  ${countText(count)} failed: ${why}`),
    ...warnings.map((warning) => `  ${warning}`),
  ]
  return `${lines.map((line) => printable(line)).join('\n')}\n`
}
