import { ageMs, decideOnFailure } from '../../core/decide/decide.js'
import type { Explanation } from '../../core/decide/explanation.js'
import { reasons } from '../../core/decide/reasons.js'
import type { Clock } from '../../core/ports/clock.js'
import type { Entry } from '../../core/ports/entry-store.js'
import type { Call } from '../call/call.js'
import { situationOf } from '../call/situation.js'
import type { Gate } from '../gate/gate.js'
import type { CallRunner } from './call-runner.js'

export interface ExplainParts {
  readonly runner: CallRunner
  readonly gate: Gate
  readonly clock: Clock
}

/** What a call would do now, and why: all but how its endpoint was found. `freshBy`: what said how long an entry is fresh. */
export async function explained(
  { runner, gate, clock }: ExplainParts,
  call: Call<unknown>,
  freshBy: (entry: Entry) => NonNullable<Explanation['stored']>['freshBy'],
): Promise<Omit<Explanation, 'provider' | 'endpoint' | 'nearMisses' | 'leftOut'>> {
  const { endpoint } = call
  const { found, decision } = await runner.consider(call)
  const { entry } = found
  const isGated = endpoint.mode !== 'measure' && endpoint.isGated
  const refusal = isGated ? await gate.look({ endpoint, path: call.path, urgency: call.terms.urgency }) : undefined
  return {
    mode: endpoint.mode,
    key: call.key ?? null,
    stored: entry ? storedOf(found.key, entry, clock.now(), freshBy(entry)) : null,
    would: decision.do === 'call' && call.isPassed ? 'pass' : decision.do,
    reason: decision.reason,
    because: reasons[decision.reason],
    blockedBy:
      refusal && !call.isPassed
        ? { why: refusal.why, what: refusal.what, until: Number.isFinite(refusal.at) ? new Date(refusal.at) : null }
        : null,
    olderAnswerOnFailure: decideOnFailure(situationOf(call, entry, clock.now())).do === 'serve',
  }
}

function storedOf(key: string, entry: Entry, now: number, freshBy: NonNullable<Explanation['stored']>['freshBy']): Explanation['stored'] {
  return {
    key,
    storedAt: new Date(entry.storedAt),
    ageMs: ageMs(entry, now),
    freshUntil: new Date(entry.freshUntil),
    freshBy,
    refreshableUntil: new Date(entry.refreshableUntil),
    usableUntil: new Date(entry.usableUntil),
    mustRevalidate: entry.mustRevalidate || entry.invalidated,
    bytes: entry.body.byteLength,
  }
}
