/**
 * What is counted. The first of them say how a call of the application ended: answered from store, fresh or stale, collapsed, forwarded, by default, errored and
 * abandoned ones add up to the calls asked; the `up...`
 * ones say how a call to the provider ended, and answered, refused, failed and abandoned ones add up to the upstream calls; the next two compare a refreshed answer with the
 * one it took the place of.
 */
export const countNames = [
  /** answered from store, fresh */
  'hit',
  /** answered from store, past its freshness */
  'stale',
  /** of these, given though nothing had failed: while they were refreshed, or because the request accepts them */
  'staleByChoice',
  /** of these, given without a call because calls had failed a moment ago */
  'staleHeldOff',
  /** of the answers from store, where it has layers, those from copies in the process and those from what all share */
  'near',
  'far',
  /** of the latter, those read again because their copy had run out, and were the same still */
  'reread',
  /** answered by an upstream call that another caller had begun */
  'collapsed',
  /** answered by an upstream call of its own */
  'forwarded',
  /** of these, for nothing was stored yet, and how long their callers waited in all, microseconds */
  'first',
  'firstMicros',
  /** answered by the endpoint's default, for the upstream failed */
  'fallback',
  /** ended in an error, a refusal (429) or a server error (5xx) */
  'errored',
  /** given up by its caller before the end */
  'abandoned',
  /** of the errored and abandoned, those for which no call left: Stashen refused it, or the caller had gone before */
  'withheld',
  /** of the answers that took no upstream call of their own, those with 4xx */
  'savedClientError',
  'upAnswered',
  /** of these, 304: the stored answer still holds */
  'upUnmodified',
  /** of the answered, 4xx but 429 */
  'upClientError',
  'upRefused',
  'upFailed',
  /** given up by all who waited: billed as answered, but those of which no answer had begun */
  'upAbandoned',
  'upUnanswered',
  /** of the failed, those with an answer, 5xx */
  'upServerError',
  'changed',
  'unchanged',
  /** stored answers that could not be read, and were dropped */
  'corrupt',
  /** answers dropped from the store to make room while they were fresh, and calls made for such an answer that would be fresh still */
  'evicted',
  'refetched',
  /** of the evicted, those dropped because the endpoint had too many entries, or an answer too many variants */
  'trimmed',
  /** calls while measuring that reuse would have answered from store */
  'wouldHit',
  /** of these, calls that the plan does not bill, and those after which reuse would have refreshed the answer in the background */
  'wouldHitUnbilled',
  'wouldRefresh',
  /** failed calls while measuring that reuse would have made again */
  'wouldRepeat',
  /** of these, calls whose answer had changed by then, so that reuse would have given an outdated one */
  'wouldBeOutdated',
  /** of the upstream calls, those that nobody waited for, and those that repeated a failed one */
  'upBackground',
  'upRepeated',
  /** how those ended that no caller asked for, refreshes and repetitions, as the `up...` ones say it */
  'moreAnswered',
  'moreUnmodified',
  'moreClientError',
  'moreRefused',
  'moreFailed',
  'moreServerError',
  'moreAbandoned',
  'moreUnanswered',
  /** calls that others made with the same key, by what the provider says is left of its quota */
  'others',
  /** calls asked that limits would have refused had all gone upstream, as far as that is settled */
  'overLimit',
  /** upstream calls that may have used units which their answers do not tell */
  'unitsUnknown',
  /** how long callers waited who were answered from store or by another's call, and how long answered upstream calls took: microseconds */
  'avoidedMicros',
  'upMicros',
] as const

export type TallyCount = (typeof countNames)[number]
export type TallyCounts = Record<TallyCount, number>

/**
 * What was counted of an endpoint in a stretch of time, as plain JSON: counts by name, those that are zero left out; units by name; and
 * histograms of milliseconds as text. Stores keep it and add it up with `sumTallies`; what is in it does not matter to them.
 */
export interface TallyData extends Partial<TallyCounts> {
  readonly oldestStaleMs?: number
  /** Answers that were not stored, by why. */
  readonly notStored?: Readonly<Record<string, number>>
  /** Units that the calls cost which were made for evicted answers, by name. */
  readonly refetchedUnits?: Readonly<Record<string, number>>
  /** Units that the calls cost which reuse would have answered from store. */
  readonly wouldHitUnits?: Readonly<Record<string, number>>
  /** What was counted of it apart, by whose calls these were, without times. */
  readonly parts?: Readonly<Record<string, TallyData>>
  readonly units?: { readonly made: Record<string, number>; readonly asked: Record<string, number> }
  /** How old stored answers were when they were compared with new ones, and differed or did not. */
  readonly changedMs?: string
  readonly unchangedMs?: string
  /** How long callers waited, how long upstream calls took, and how old answers from store were. */
  readonly ms?: string
  readonly upMs?: string
  readonly ageMs?: string
}

/** For a part: its times are those of the whole. */
export function withoutTimes({
  ms: _ms,
  upMs: _upMs,
  ageMs: _ageMs,
  changedMs: _changed,
  unchangedMs: _unchanged,
  ...counts
}: TallyData): TallyData {
  return counts
}
