import type { ProviderOptions } from '../core/endpoints/provider-options.js'
import type { ConfigFault } from '../core/errors/setup-errors.js'
import { shown } from '../core/errors/shown.js'
import type { BudgetOptions } from '../core/limits/budget.js'

/** Faults of budgets that only several options together show. Their shape may be wrong too: what cannot be read is passed over. */
export function budgetFaults({ budgets, plan }: ProviderOptions, path: string): ConfigFault[] {
  if (!Array.isArray(budgets)) return []
  const seen = new Map<string, number>()
  return (budgets as readonly BudgetOptions[]).flatMap((budget, i): ConfigFault[] => {
    if (typeof budget !== 'object' || budget === null) return []
    const at = `${path}.budgets[${i}]`
    const { money, calls, per = 'month', warnAt = 0.8, stretchAt = 0.9, stopAt = 1 } = budget
    const id = `${money === undefined ? 'calls' : 'money'} per ${typeof per === 'string' ? per : shown(per)}`
    const other = seen.get(id)
    seen.set(id, i)
    const faults: [boolean, string, string][] = [
      [money === undefined && calls === undefined, 'money', 'is missing: say how much may be spent, as "money" or as "calls"'],
      [money !== undefined && calls !== undefined, 'calls', 'stands beside "money": make them two budgets'],
      [money !== undefined && plan === undefined, 'money', 'needs a "plan" of the provider, which says what a call costs'],
      [other !== undefined, 'per', `is a second budget of ${id}: put the two together`],
      [warnAt > stretchAt, 'warnAt', `is ${warnAt}, more than "stretchAt", which is ${stretchAt}`],
      [stopAt !== 'never' && stretchAt > stopAt, 'stretchAt', `is ${stretchAt}, more than "stopAt", which is ${stopAt}`],
    ]
    return faults.flatMap(([wrong, option, message]) => (wrong ? [{ path: `${at}.${option}`, message }] : []))
  })
}
