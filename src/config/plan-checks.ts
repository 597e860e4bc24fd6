import type { ConfigFault } from '../core/errors/setup-errors.js'
import type { PlanOptions, PlanTerms } from '../core/money/plan.js'

/** What only holds for a period, and means nothing without one. */
const ofPeriods = ['baseFee', 'included', 'tiers', 'packages', 'minimum', 'maximum'] as const

/** Faults of a plan that only several of its options together show. Its shape may be wrong too: what cannot be read is passed over. */
export function planFaults(plan: Partial<PlanOptions> | undefined, path: string): ConfigFault[] {
  if (typeof plan !== 'object' || plan === null) return []
  const fault = (option: string, message: string): ConfigFault => ({ path: `${path}.${option}`, message })
  const changes = Array.isArray(plan.changes) ? plan.changes.filter((change) => typeof change === 'object' && change !== null) : []
  const needy = ofPeriods.find((option) => plan[option] !== undefined || changes.some((change) => change[option] !== undefined))
  const days = changes.map(({ from }) => from)
  return [
    ...termsFaults(plan, path),
    ...changes.flatMap((change, i) => termsFaults(change, `${path}.changes[${i}]`)),
    ...(needy !== undefined && plan.period === undefined && plan.prepaid === undefined
      ? [fault(needy, 'needs a "period": say how long the billing period is, e.g. "month"')]
      : []),
    ...(plan.prepaid === undefined ? [] : prepaidFaults(plan, needy, path)),
    ...(plan.anchorDay !== undefined && plan.period !== 'month'
      ? [fault('anchorDay', 'is for periods of a month: say "period": "month"')]
      : []),
    ...(plan.perCall === undefined && plan.units === undefined && needy === undefined && plan.prepaid === undefined
      ? [fault('perCall', 'is missing: say what a call costs, or a period')]
      : []),
    ...(days.some((day, i) => days.indexOf(day) !== i) ? [fault('changes', 'has two changes from one day on: put them together')] : []),
  ]
}

/** Credits bought in advance know no period, and are a way of pricing calls. */
function prepaidFaults({ perCall, period, changes }: Partial<PlanOptions>, needy: string | undefined, path: string): ConfigFault[] {
  const beside = Object.entries({ perCall, period, changes }).find(([, value]) => value !== undefined)?.[0] ?? needy
  return beside === undefined
    ? []
    : [{ path: `${path}.${beside}`, message: 'stands beside "prepaid": credits are used up in no period, and at one price' }]
}

function termsFaults({ perCall, tiers, tiering, packages, minimum, maximum }: PlanTerms, path: string): ConfigFault[] {
  const fault = (option: string, message: string): ConfigFault => ({ path: `${path}.${option}`, message })
  const priced = Object.entries({ perCall, tiers, packages }).flatMap(([option, value]) => (value === undefined ? [] : [option]))
  const over = minimum !== undefined && maximum !== undefined && Number(minimum) > Number(maximum)
  return [
    ...(priced.length > 1 ? [fault(priced[1] as string, `stands beside "${priced[0]}": calls are priced in one way`)] : []),
    ...(Array.isArray(tiers) ? tierFaults(tiers, path) : []),
    ...(tiering !== undefined && tiers === undefined ? [fault('tiering', 'does nothing without "tiers"')] : []),
    ...(over ? [fault('minimum', 'is more than "maximum"')] : []),
  ]
}

function tierFaults(tiers: NonNullable<PlanTerms['tiers']>, path: string): ConfigFault[] {
  const fault = (i: number, message: string): ConfigFault => ({ path: `${path}.tiers[${i}].upTo`, message })
  return tiers.flatMap((tier, i) => {
    const before = tiers[i - 1]?.upTo
    if (i < tiers.length - 1 && tier?.upTo === undefined) return [fault(i, 'is missing: only the last tier has no end')]
    if (i === tiers.length - 1 && tier?.upTo !== undefined)
      return [fault(i, 'is the end of the last tier: leave it out, or calls beyond it have no price')]
    return before !== undefined && tier?.upTo !== undefined && tier.upTo <= before
      ? [fault(i, `is ${tier.upTo}, not more than the ${before} of the tier before: the two overlap`)]
      : []
  })
}
