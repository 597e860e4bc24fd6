import { ageMs } from '../../core/decide/decide.js'
import type { Explanation } from '../../core/decide/explanation.js'
import { reasons } from '../../core/decide/reasons.js'
import type { RuleBook } from '../../core/endpoints/rule-book.js'
import type { Clock } from '../../core/ports/clock.js'
import { leftOut } from '../../core/rules/request-key.js'
import type { CallRunner } from '../answer/call-runner.js'
import type { Gate } from '../gate/gate.js'
import { answerOfEntry } from './http-answer.js'
import type { HttpCall, Matched } from './http-call.js'

export interface ExplainParts {
  readonly rules: RuleBook
  readonly runner: CallRunner
  readonly gate: Gate
  readonly clock: Clock
}

/** What a call would do now, and why. */
export async function explainCall({ rules, runner, gate, clock }: ExplainParts, call: HttpCall, matched: Matched): Promise<Explanation> {
  const { method, url, provider, endpoint, rule } = matched
  const { found, decision, onFailure } = await runner.consider(call)
  const { entry } = found
  const isGated = rule.mode !== 'measure' && rule.isGated
  const refusal = isGated ? await gate.look({ endpoint: rule, path: call.path, urgency: call.terms.urgency }) : undefined
  return {
    ...{ provider: provider?.name ?? null, endpoint: endpoint?.name ?? null, nearMisses: rules.nearMisses(method, url), mode: rule.mode },
    key: call.key ?? null,
    leftOut: provider && endpoint && !call.isPassed ? leftOut(provider, endpoint.keying, url) : [],
    stored: entry
      ? {
          ...{
            key: found.key,
            storedAt: new Date(entry.storedAt),
            ageMs: ageMs(entry, clock.now()),
            freshUntil: new Date(entry.freshUntil),
          },
          ...{
            freshBy: answerOfEntry(entry).freshBy ?? 'rule',
            refreshableUntil: new Date(entry.refreshableUntil),
            usableUntil: new Date(entry.usableUntil),
          },
          ...{ mustRevalidate: entry.mustRevalidate || entry.invalidated, bytes: entry.body.byteLength },
        }
      : null,
    would: decision.do === 'call' && call.isPassed ? 'pass' : decision.do,
    reason: decision.reason,
    because: reasons[decision.reason],
    blockedBy:
      refusal && !call.isPassed
        ? { why: refusal.why, what: refusal.what, until: Number.isFinite(refusal.at) ? new Date(refusal.at) : null }
        : null,
    olderAnswerOnFailure: onFailure.do === 'serve',
  }
}
