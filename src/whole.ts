import * as buildStash from './build-stash.js'
import * as archives from './config/har-schema.js'
import * as terms from './core/endpoints/compile-terms.js'
import * as calendars from './core/limits/calendar-code.js'
import { calendarCode } from './core/limits/calendars.js'
import type { OnDemand } from './core/on-demand.js'
import * as protocols from './core/protocols/readers.js'
import * as moments from './core/time/moment.js'
import * as publications from './core/time/next-publication.js'
import * as putting from './engine/answer/put-answer.js'
import * as earlier from './engine/gate/count-earlier.js'
import * as explaining from './engine/http/explain-call.js'
import { explainingCode, puttingCode } from './engine/http/fetch-handler.js'
import { publicationCode, warmingCode } from './engine/http/keep-warm.js'
import * as warming from './engine/http/warm-requests.js'
import * as coarser from './engine/ledger/coarser-rows.js'
import * as journal from './engine/ledger/journal-writer.js'
import * as upkeep from './engine/ledger/ledger-upkeep.js'
import { coarserCode } from './engine/ledger/ledger-writer.js'
import * as operations from './engine/operation/wrap-operation.js'
import { type LoadedLater, onDemand } from './loaded-later.js'
import { stashCode } from './open-stash.js'
import * as entries from './queries/entries.js'
import * as exports from './queries/har-export.js'
import * as imports from './queries/har-import.js'
import * as mostUsed from './queries/most-used.js'
import * as reports from './queries/reports.js'
import * as status from './queries/status.js'

/** All of `stashen`, loaded at once: for service workers, which can load no code later, and where one file is wanted. */
export * from './index.js'

stashCode.give(buildStash)
calendarCode.give(calendars)
explainingCode.give(explaining)
puttingCode.give(putting)
publicationCode.give(publications)
warmingCode.give(warming)
coarserCode.give(coarser)
const later: LoadedLater = {
  ...{ terms, protocols, earlier, journal, upkeep, operations, moments, entries, exports, imports, archives, mostUsed, reports, status },
}
for (const name of Object.keys(later) as (keyof LoadedLater)[]) (onDemand[name] as OnDemand<unknown>).give(later[name])
