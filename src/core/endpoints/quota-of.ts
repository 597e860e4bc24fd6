import { defaults } from '../defaults.js'
import type { Quota } from '../limits/quota.js'
import type { QuotaOptions } from './provider-options.js'

export function quotaOf({ calls, per, zone = defaults.zone }: QuotaOptions): Quota {
  return { calls, per, zone }
}
