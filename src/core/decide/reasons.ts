/** Why a call was answered as it was. One row each; `outcome.reason` and the `detail` of `Cache-Status` name it. */
export const reasons = {
  fresh: 'a stored answer is still fresh',
  'any-age-asked': 'the request takes what is stored, whatever its age',
  'stale-accepted': 'the stored answer is past its freshness by no more than the request accepts',
  refreshing: 'the stored answer is past its freshness, and is given while it is refreshed',
  absent: 'nothing is stored under this key',
  'no-variant': 'answers are stored under this key, but none for such request fields (Vary)',
  expired: 'the stored answer is past its freshness',
  'younger-asked': 'the stored answer is fresh, but not by as much as the request asks for',
  'check-asked': 'the request asks to check with the upstream whether the stored answer holds',
  'reload-asked': 'the request asks for a new answer, whatever is stored',
  'no-store-asked': 'the request asks that nothing is reused or stored',
  'range-asked': 'the request asks for a part of the answer, and no whole one is stored that may be used',
  'condition-asked': 'the request carries a condition of its own, and no stored answer may be compared with it',
  'head-asked': 'the request asks for the head of the answer, and none is stored that may be used',
  'stored-only-asked': 'the request asks for a stored answer only, and none is stored that may be used',
  'held-off': 'calls to the upstream failed a moment ago, so the older answer was given without asking again',
  'limit-reached': 'a call now would have passed a limit of the provider, so the older answer was given',
  'budget-stretched': 'the budget of the provider is nearly spent, so the older answer was given without asking again',
  'budget-spent': 'the budget of the provider is spent, so the older answer was given',
  overdue: 'the upstream did not answer within the time of this call, so the older answer was given',
  'upstream-failed': 'the upstream call failed, so the older answer was given',
  'default-given': 'the upstream gave no answer, and no older one may be given, so the default of the endpoint was',
  abandoned: 'the caller had left before anything was done',
  'no-older-answer': 'the upstream gave no answer, and no older one may be given',
  offline: 'the stash is offline: stored answers of any age are given, and nothing is called',
  measuring: 'the stash only measures',
  'not-reusable': 'the endpoint has no freshness, so nothing is stored',
  'may-write': 'nothing says that the call only asks, so it is sent each time',
  'request-excepted': 'the rule of the endpoint excepts this request from reuse',
  'called-by-itself': 'the function called itself with the same arguments, and does not wait for its own result',
  'no-key': 'a function of the configuration failed, so the request has no key',
  'no-endpoint': 'no endpoint covers the request',
} as const satisfies Record<string, string>

export type Reason = keyof typeof reasons

/** Why older answers are given though nothing has failed. */
export const byChoice: readonly (Reason | undefined)[] = ['refreshing', 'stale-accepted', 'any-age-asked']
