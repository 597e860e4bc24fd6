import type { Figures, Report } from '../core/ledger/report-model.js'
import { ageText, countText, shareText, shortened } from './format.js'

/** How often the answers of each endpoint had changed by their age: the share, and unless `brief` of how many; undefined where nothing was compared. */
export function changeTable({ providers }: Report, brief = false): { heads: string[]; rows: string[][] } | undefined {
  const all = providers.flatMap(({ provider, endpoints }) =>
    endpoints.flatMap(({ endpoint, with: reused, without }) => {
      const figures: Figures | undefined = reused ?? ('changes' in without ? without : undefined)
      // while reusing, the same calls may have been measured too: those were compared more often
      const measured = 'changes' in without && without.changes.length > 0 ? without : figures
      return measured && measured.changes.length > 0 ? [{ name: `${provider}.${endpoint}`, changes: measured.changes }] : []
    }),
  )
  if (all.length === 0) return undefined
  const ages = [...new Set(all.flatMap(({ changes }) => changes.map(({ upToMs }) => upToMs ?? Number.POSITIVE_INFINITY)))].sort(
    (a, b) => a - b,
  )
  const rows = all.map(({ name, changes }) => [
    brief ? shortened(name, 22) : name,
    ...ages.map((age) => {
      const at = changes.find(({ upToMs }) => (upToMs ?? Number.POSITIVE_INFINITY) === age)
      if (!at) return ''
      const share = shareText(at.changed, at.changed + at.unchanged)
      return brief ? share : `${share} of ${countText(at.changed + at.unchanged)}`
    }),
  ])
  return { heads: ['changed by', ...ages.map((age) => (Number.isFinite(age) ? `${brief ? '' : 'up to '}${ageText(age)}` : 'older'))], rows }
}
