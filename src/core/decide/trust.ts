/** Which of the rule and the upstream's header fields says how an answer is kept. */
export const trusts = ['rule', 'upstream', 'shorter'] as const
export type Trust = (typeof trusts)[number]
