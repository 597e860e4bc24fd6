import type { Endpoint } from '../../core/endpoints/endpoint.js'
import { factsInForce } from '../../core/ledger/facts-in-force.js'
import type { TallyRow } from '../../core/ledger/ledger-row.js'
import { alignedWindow } from '../../core/limits/aligned-window.js'
import type { Budget } from '../../core/limits/budget.js'
import { type Bought, spentEarlier } from '../../core/limits/budget-state.js'
import type { Limit } from '../../core/limits/limit.js'
import { type Earlier, withEvent } from '../../core/limits/provider-events.js'
import { nothingKnown, ofName, parseProviderState } from '../../core/limits/provider-state.js'
import { billedCalls } from '../../core/money/billed-calls.js'
import { chargeOfCallsAndUnits } from '../../core/money/period-charge.js'
import { billingPeriod, termsAt } from '../../core/money/plan-periods.js'
import { periodAround } from '../../core/time/calendar.js'
import { type Reading, readFacts, readRows } from '../ledger/read-rows.js'
import { changeProvider, recordOf } from './provider-records.js'

/** A provider's quota and budgets, as every one of its endpoints knows them. */
export type Bounds = Pick<Endpoint, 'provider' | 'limits' | 'spending'>

/**
 * Counts into quotas and budgets that a store does not know yet what its ledger knows of their present period, so that one that is set up in
 * the midst of it does not begin with nothing spent. Calls made while only measuring do not count, for they pass no limit.
 */
export async function countEarlier(reading: Reading, now: number, { provider, limits, spending }: Bounds): Promise<void> {
  if (!spending && !limits.some(({ paced }) => paced)) return
  const { store } = reading
  const text = await recordOf(store.records, provider, now)
  const state = text === undefined ? nothingKnown : parseProviderState(text)
  const quotas = limits.filter(({ id, paced }) => paced && !ofName(state.limits, id))
  const budgets = (spending?.budgets ?? []).filter(({ id }) => !ofName(state.budgets, id))
  if (quotas.length + budgets.length === 0) return
  const starts = [...quotas.map((limit) => windowStart(limit, now)), ...budgets.map((budget) => countedFrom(budget, now))]
  const read = await readRows(reading, { since: Math.min(...starts), until: Number.MAX_SAFE_INTEGER, cuts: starts })
  const rows = read.rows
    .filter((row) => row.provider === provider && row.mode === 'reuse' && row.bucket <= now)
    .sort((a, b) => a.bucket - b.bucket)
  if (rows.length === 0) return
  const known = factsInForce((await readFacts(store)).facts)
  const boughtIn = (row: TallyRow, budget: Budget): Bought => {
    const { bucket: at, endpoint, tally } = row
    if (budget.currency === undefined) return { at, calls: tally.upstream, own: '0' }
    const calls = billedCalls(budget.plan, tally)
    const { perCall, weight = 1 } = known.price(provider, endpoint, at) ?? {}
    const own = chargeOfCallsAndUnits(termsAt(budget.plan, at), { perCall, calls, units: tally.units.made })
    return { at, calls: perCall === undefined ? calls * weight : 0, own: own.toFixed() }
  }
  const earlier: Earlier = {
    limits: quotas.map((limit) => {
      const its = rows.filter(({ bucket }) => bucket >= windowStart(limit, now))
      const calls = its.reduce((sum, { tally }) => sum + tally.upstream, 0)
      return { limit, state: { flying: [], ended: calls > 0 ? [[now, calls]] : [] } }
    }),
    budgets: budgets.map((budget) => {
      const its = rows.filter(({ bucket }) => bucket >= countedFrom(budget, now))
      return {
        budget,
        state: spentEarlier(
          budget,
          its.map((row) => boughtIn(row, budget)),
          now,
        ),
      }
    }),
  }
  await changeProvider(store.records, provider, now, (known) =>
    withEvent(known === undefined ? nothingKnown : parseProviderState(known), { is: 'counted-earlier', at: now, earlier }),
  )
}

function windowStart(limit: Limit, now: number): number {
  return limit.kind === 'aligned' ? alignedWindow(limit, now).start : now
}

/** Begin of the billing period that the period of a budget begins in. */
function countedFrom(budget: Budget, now: number): number {
  const { start } = periodAround(now, budget.per, budget.zone)
  return Math.min(start, billingPeriod(budget.plan, start).start)
}
