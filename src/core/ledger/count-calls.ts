import type { FoundIn } from '../decide/layer.js'
import type { Units } from '../money/units.js'
import type { Tally } from './tally.js'

/** Counts how an upstream call ended: `isMore`, if no caller asked for it: it refreshes, or repeats a failed one. */
export function countEnding(tally: Tally, { how, status, isAnswered, isMore }: UpstreamEnding): void {
  const names = endingNames({ how, status, isAnswered })
  for (const name of names) tally[`up${name}`]++
  if (isMore) for (const name of names) tally[`more${name}`]++
}

interface UpstreamEnding {
  readonly how: 'answered' | 'refused' | 'failed' | 'abandoned'
  readonly status: number | undefined
  readonly isAnswered: boolean
  readonly isMore: boolean
}
type EndingName = 'Answered' | 'Unmodified' | 'ClientError' | 'Refused' | 'Failed' | 'ServerError' | 'Abandoned' | 'Unanswered'

function endingNames({
  how,
  status = 0,
  isAnswered,
}: Omit<UpstreamEnding, 'isMore' | 'status'> & { status: number | undefined }): EndingName[] {
  switch (how) {
    case 'answered':
      return status === 304 ? ['Answered', 'Unmodified'] : isClientError(status) ? ['Answered', 'ClientError'] : ['Answered']
    case 'refused':
      return ['Refused']
    case 'failed':
      return status >= 500 ? ['Failed', 'ServerError'] : ['Failed']
    case 'abandoned':
      return isAnswered ? ['Abandoned'] : ['Abandoned', 'Unanswered']
  }
}

function isClientError(status: number | undefined): boolean {
  return status !== undefined && status >= 400 && status < 500
}

/** Counts a call that was answered from store, fresh, in `ms` milliseconds. */
export function countHit(
  tally: Tally,
  entry: { readonly units?: Units | undefined; readonly bornAt: number },
  now: number,
  { ms, status, foundIn }: { readonly ms: number; readonly status: number | undefined; readonly foundIn?: FoundIn | undefined },
): void {
  tally.hit++
  if (foundIn) tally.countLayer(foundIn)
  if (isClientError(status)) tally.savedClientError++
  if (entry.units) tally.addUnits('asked', entry.units)
  tally.latency.add(ms)
  tally.avoidedMicros += Math.round(ms * 1000)
  tally.age.add(now - entry.bornAt)
}

/** Counts how long an answered upstream call took, milliseconds. */
export function countTime(tally: Tally, ms: number): void {
  tally.upLatency.add(ms)
  tally.upMicros += Math.round(ms * 1000)
}
