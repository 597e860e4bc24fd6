export { billingPeriod, termsAt } from '../money/plan-periods.js'
export { periodAround } from '../time/calendar.js'
