/** Why a call was answered as it was. One row each; `outcome.reason` and the `detail` of `Cache-Status` name it. */
export const reasons = {
  fresh: 'a stored answer is still fresh',
  absent: 'nothing is stored under this key',
  'no-variant': 'answers are stored under this key, but none for such request fields (Vary)',
  expired: 'the stored answer is past its freshness',
  'held-off': 'the last refresh failed a moment ago, so the older answer was given without asking again',
  'upstream-failed': 'the upstream call failed, so the older answer was given',
  'no-older-answer': 'the upstream call failed and no older answer may be given',
  offline: 'the stash is offline: stored answers of any age are given, and nothing is called',
  measuring: 'the stash only measures',
  'not-reusable': 'the endpoint has no freshness, so nothing is stored',
  'range-asked': 'the request asks for a part of the answer',
  'condition-asked': 'the request carries a condition of its own',
  'reload-asked': 'the request asks for an answer that is not stored',
  'no-key': 'a function of the configuration failed, so the request has no key',
  'no-endpoint': 'no endpoint covers the request',
} as const satisfies Record<string, string>

export type Reason = keyof typeof reasons
