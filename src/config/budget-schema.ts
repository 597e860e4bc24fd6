import * as z from 'zod/mini'
import { defaults } from '../core/defaults.js'
import { calendarPeriods } from '../core/time/calendar-period.js'
import { callCount, type Issue, oneOf, option, price, received, share, zone } from './schema-parts.js'

const noStop = (issue: Issue) => `${received(issue)} is neither a share, 0 to 1, nor "never"`

/** The shape of `BudgetOptions`. */
export const budget = z.strictObject({
  money: option(price, 'How much may be spent, a decimal in quotes in the currency of the plan; base fee and minimum do not count.'),
  calls: option(callCount, 'How many calls may be made, in place of `money`.'),
  per: option(oneOf(calendarPeriods), 'The calendar period.', defaults.budgetPer),
  zone: option(zone, 'IANA time zone whose calendar the period follows. Default: the plan\'s, else "UTC".'),
  warnAt: option(share, 'Share (0 to 1) of the budget at which the event `budget` warns.', defaults.warnAt),
  stretchAt: option(
    share,
    'Share from which older answers are given where they may be, and nothing leaves in the background.',
    defaults.stretchAt,
  ),
  stopAt: option(z.union([z.literal('never'), share], { error: noStop }), 'Share that no call may exceed, or "never".', defaults.stopAt),
})
