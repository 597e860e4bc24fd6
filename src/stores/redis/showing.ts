import { type Claim, claimMs, type Shown, shownMs, watchedMs } from '../../core/ports/claims.js'
import { type RedisLink, script } from './link.js'
import { type Places, slotOf } from './places.js'

/** Pieces read at once. */
const mostPieces = 100

/**
 * An answer that is shown while it arrives is a hash in the slot of its claim, `arriving:TOKEN`: its pieces by their numbers, `shown_at` and `watched_at` (by the
 * server's clock, milliseconds).
 */
const parts = `
local place = ARGV[1] .. 'arriving:' .. ARGV[2]
local t = redis.call('TIME')
local now = t[1] * 1000 + math.floor(t[2] / 1000)
local function isLately(name, ms)
  local at = tonumber(redis.call('HGET', place, name) or '')
  return at and math.abs(now - at) < ms
end
`

/** base, token, the number of the first piece, then pieces. */
const showScript = script(`${parts}
if not isLately('watched_at', ${watchedMs}) then return 0 end
redis.call('HSET', place, 'shown_at', string.format('%.0f', now))
for i = 4, #ARGV do redis.call('HSET', place, string.format('%.0f', ARGV[3] + i - 4), ARGV[i]) end
redis.call('PEXPIRE', place, ${shownMs})
return 1`)

/** base, token, the number of the first piece. Returns whether it is alive, and pieces. */
const watchScript = script(`${parts}
local isAlive = isLately('shown_at', ${claimMs})
redis.call('HSET', place, 'watched_at', string.format('%.0f', now))
redis.call('PEXPIRE', place, ${shownMs})
local found = { isAlive and 1 or 0 }
for number = ARGV[3], ARGV[3] + ${mostPieces - 1} do
  local piece = redis.call('HGET', place, string.format('%.0f', number))
  if not piece then break end
  found[#found + 1] = piece
end
return found`)

/** Answers that are shown to other processes while they arrive, by the tokens of their claims. */
export class Showing {
  readonly #link: RedisLink
  readonly #places: Places

  constructor(link: RedisLink, places: Places) {
    this.#link = link
    this.#places = places
  }

  async show({ key, token }: Claim, from: number, pieces: readonly Uint8Array[]): Promise<boolean> {
    const base = this.#places.entries(slotOf(key))
    return (await this.#link.run(showScript, `${base}keys`, [base, token, String(from), ...pieces])) === 1
  }

  async watch({ key, token }: Claim, from: number): Promise<Shown | undefined> {
    const base = this.#places.entries(slotOf(key))
    const [alive, ...pieces] = (await this.#link.runForBytes(watchScript, `${base}keys`, [base, token, String(from)])) as [
      number,
      ...Buffer[],
    ]
    return alive === 1 || pieces.length > 0 ? { pieces: pieces.map((piece) => new Uint8Array(piece)), isAlive: alive === 1 } : undefined
  }
}
