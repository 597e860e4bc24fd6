import type { PlanOptions, PlanTerms } from '../core/money/plan.js'
import { countText } from './format.js'

/** A plan in words, e.g. `EUR 19 a month, 1,000 calls included, then 0.004 a call up to 10,000, then 0.002`. */
export function planWords({
  currency,
  period,
  anchorDay,
  zone,
  notBilled = [],
  countedAt,
  changes = [],
  prepaid,
  ...terms
}: PlanOptions): string {
  const length = typeof period === 'object' ? `${period.days} days from ${period.from}` : period
  const begins = anchorDay === undefined ? '' : ` from day ${anchorDay}`
  const parts = [
    `${currency} ${prepaid ? `${prepaid.price} for ${countText(prepaid.credits)} credits in advance` : termsWords(terms, length ? `${length}${begins}` : undefined)}`,
    ...changes.map(({ from, ...change }) => `from ${from}: ${termsWords(change, undefined)}`),
    ...(notBilled.length > 0 ? [`not billed: ${notBilled.join(', ')}`] : []),
    ...(countedAt ? [`a call counts when it ${countedAt}`] : []),
    ...(zone ? [`by the calendar of ${zone}`] : []),
  ]
  return parts.join('; ')
}

function termsWords(
  { baseFee, included, perCall, tiers, tiering, packages, units = {}, minimum, maximum, rounding }: PlanTerms,
  period: string | undefined,
): string {
  const per = period === undefined ? '' : ` a ${period}`
  const beyond = included === undefined ? '' : 'then '
  return [
    ...(baseFee === undefined ? [] : [`${baseFee}${per}`]),
    ...(included === undefined ? [] : [`${countText(included)} calls included`]),
    ...(perCall === undefined ? [] : [`${beyond}${perCall} a call`]),
    ...(packages === undefined ? [] : [`${beyond}${packages.price} for every started ${countText(packages.of)} calls`]),
    ...(tiers ?? []).map(({ upTo, perCall: price }, i) => {
      const unit = tiering === 'volume' ? ' for all' : ''
      return `${i === 0 ? beyond : 'then '}${price} a call${unit}${upTo === undefined ? '' : ` up to ${countText(upTo)}`}`
    }),
    ...Object.entries(units).map(([name, { price, per }]) => `${price} for ${per === undefined ? `each of` : countText(per)} ${name}`),
    ...(minimum === undefined ? [] : [`at least ${minimum}`]),
    ...(maximum === undefined ? [] : [`at most ${maximum}`]),
    ...(rounding === undefined ? [] : [`rounded ${rounding}`]),
  ].join(', ')
}
