import { z } from 'zod'
import { calendarPeriods } from '../core/time/calendar.js'
import { callCount, type Issue, oneOf, price, received, share, zone } from './schema-parts.js'

const noStop = (issue: Issue) => `${received(issue)} is neither a share, 0 to 1, nor "never"`

/** The shape of `BudgetOptions`. */
export const budget = z.strictObject({
  money: price.optional(),
  calls: callCount.optional(),
  per: oneOf(calendarPeriods).optional(),
  zone: zone.optional(),
  warnAt: share.optional(),
  stretchAt: share.optional(),
  stopAt: z.union([z.literal('never'), share], { error: noStop }).optional(),
})
