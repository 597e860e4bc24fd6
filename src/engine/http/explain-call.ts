import type { Explanation } from '../../core/decide/explanation.js'
import type { RuleBook } from '../../core/endpoints/rule-book.js'
import { leftOut } from '../../core/rules/request-key.js'
import { type ExplainParts, explained } from '../answer/explained.js'
import { answerOfEntry } from './http-answer.js'
import type { HttpCall, Matched } from './http-call.js'

/** What an HTTP call would do now, and why. */
export async function explainCall(
  parts: ExplainParts & { readonly rules: RuleBook },
  call: HttpCall,
  matched: Matched,
): Promise<Explanation> {
  const { method, url, provider, endpoint } = matched
  return {
    ...{ provider: provider?.name ?? null, endpoint: endpoint?.name ?? null, nearMisses: parts.rules.nearMisses(method, url) },
    leftOut: provider && endpoint && !call.isPassed ? leftOut(provider, endpoint.keying, url) : [],
    ...(await explained(parts, call, (entry) => answerOfEntry(entry).freshBy ?? 'rule')),
  }
}
