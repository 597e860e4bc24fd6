import { OnDemand } from './core/on-demand.js'

/** What a stash loads when it is first configured, or asked for. What the engine loads itself stands where it does. */
export const onDemand = {
  terms: new OnDemand(() => import('./core/endpoints/compile-terms.js')),
  protocols: new OnDemand(() => import('./core/protocols/readers.js')),
  earlier: new OnDemand(() => import('./engine/gate/count-earlier.js')),
  journal: new OnDemand(() => import('./engine/ledger/journal-writer.js')),
  upkeep: new OnDemand(() => import('./engine/ledger/ledger-upkeep.js')),
  operations: new OnDemand(() => import('./engine/operation/wrap-operation.js')),
  moments: new OnDemand(() => import('./core/time/moment.js')),
  entries: new OnDemand(() => import('./queries/entries.js')),
  exports: new OnDemand(() => import('./queries/har-export.js')),
  imports: new OnDemand(() => import('./queries/har-import.js')),
  archives: new OnDemand(() => import('./config/har-schema.js')),
  mostUsed: new OnDemand(() => import('./queries/most-used.js')),
  reports: new OnDemand(() => import('./queries/reports.js')),
  status: new OnDemand(() => import('./queries/status.js')),
}

/** All of it. */
export type LoadedLater = { readonly [Name in keyof typeof onDemand]: Awaited<ReturnType<(typeof onDemand)[Name]['get']>> }
