import { script } from './link.js'

/**
 * A claim on a key is a hash in the slot of its entry, \`claim:KEY\`: \`token\`, \`account\` and \`labels\` (as entries have them), \`until\` (by the server's clock, milliseconds),
 * and \`ended\`, how it ended. \`claims\` has the keys of those that may hold, by when they are forgotten.
 */
export const claimParts = `
local function millis()
  local t = redis.call('TIME')
  return t[1] * 1000 + math.floor(t[2] / 1000)
end
local function claimOf(key)
  if redis.call('TYPE', base .. 'claim:' .. key).ok ~= 'hash' then return { false, false, false, false, false } end
  return redis.call('HMGET', base .. 'claim:' .. key, 'token', 'until', 'ended', 'account', 'labels')
end
local function holdsNow(claim, span)
  if not claim[1] or claim[3] then return false end
  local left = (tonumber(claim[2]) or 0) - millis()
  return left > 0 and left <= span
end
local function unclaim(key)
  redis.call('DEL', base .. 'claim:' .. key)
  redis.call('ZREM', base .. 'claims', key)
end
`

/** Stands for labels that only the answer of a claim says. */
export const unknownLabels = 'unknown'

const base = `local base = ARGV[1]\n${claimParts}`

/** base, key, account, token, when what was seen was stored (or nothing), 1 to take it over, how long it holds and how long it is kept, milliseconds, and labels. */
export const takeScript = script(`${base}
local key, token, span = ARGV[2], ARGV[4], tonumber(ARGV[7])
if ARGV[6] ~= '1' then
  local kind = redis.call('TYPE', base .. 'entry:' .. key).ok
  local times = kind == 'hash' and redis.call('HGET', base .. 'entry:' .. key, 'times')
  if times and string.match(times, '^%S+') ~= ARGV[5] then return { 'changed', '' } end
  local claim = claimOf(key)
  if holdsNow(claim, span) then return { 'held', claim[1] } end
end
local now = millis()
redis.call('DEL', base .. 'claim:' .. key)
redis.call('HSET', base .. 'claim:' .. key, 'token', token, 'until', string.format('%.0f', now + span), 'account', ARGV[3], 'labels', ARGV[9])
redis.call('PEXPIRE', base .. 'claim:' .. key, ARGV[8])
redis.call('ZREMRANGEBYSCORE', base .. 'claims', '-inf', string.format('%.0f', now))
redis.call('ZADD', base .. 'claims', string.format('%.0f', now + ARGV[8]), key)
return { 'taken', token }`)

/** base, key, token, how it ended, how long that can be seen, milliseconds. */
export const endScript = script(`${base}
local claim = claimOf(ARGV[2])
if claim[1] ~= ARGV[3] or claim[3] then return 0 end
if ARGV[4] == 'over' then
  unclaim(ARGV[2])
else
  redis.call('HSET', base .. 'claim:' .. ARGV[2], 'ended', ARGV[4])
  redis.call('PEXPIRE', base .. 'claim:' .. ARGV[2], ARGV[5])
end
return 1`)

/** base, key, token, how long it holds at the most, milliseconds. Returns how it ended, or \`held\`. */
export const lookScript = script(`${base}
local claim = claimOf(ARGV[2])
if claim[1] ~= ARGV[3] then return 'over' end
if claim[3] then return claim[3] end
return holdsNow(claim, tonumber(ARGV[4])) and 'held' or 'over'`)

/** base, how long they hold, milliseconds, then keys and tokens in turn. */
export const extendScript = script(`${base}
for i = 3, #ARGV, 2 do
  local claim = claimOf(ARGV[i])
  if claim[1] == ARGV[i + 1] and not claim[3] then redis.call('HSET', base .. 'claim:' .. ARGV[i], 'until', string.format('%.0f', millis() + ARGV[2])) end
end
return 1`)

/** base, kind and name of a selection. */
export const dropClaimsScript = script(`${base}
local kind, name = ARGV[2], ARGV[3]
local function hasLabel(text, label)
  if text == '' then return false end
  if text == '${unknownLabels}' then return true end
  for _, one in ipairs(cjson.decode(text)) do
    if one == label then return true end
  end
  return false
end
if kind == 'key' then
  unclaim(name)
  return 1
end
for _, key in ipairs(redis.call('ZRANGE', base .. 'claims', 0, -1)) do
  local claim = claimOf(key)
  local account = claim[4] or ''
  local isMeant = kind == 'all'
    or kind == 'under' and (key == name or string.sub(key, 1, #name + 1) == name .. ' ')
    or kind == 'path' and string.sub(key, 1, #name) == name
    or kind == 'label' and hasLabel(claim[5] or '', name)
    or kind == 'endpoint' and account == name
    or kind == 'provider' and string.sub(account, 1, #name) == name
  if isMeant then unclaim(key) end
end
return 1`)

/** base, key, token: whether the claim is still there. */
export const holdsScript = script(`${base}
local claim = claimOf(ARGV[2])
return claim[1] == ARGV[3] and not claim[3] and 1 or 0`)
