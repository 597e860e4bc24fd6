import { claimParts } from './claim-scripts.js'
import { common, walking } from './entry-script-parts.js'
import { script } from './link.js'

/** base, key, account, times, keepUntil, milliseconds to keep it, size, units, head, body, when what is dropped besides had run out, the channel of changes, the key and token of its claim, or nothing, labels and price. Returns 0 where that holds no more. */
export const putScript = script(`${common}${claimParts}
if ARGV[13] ~= '' then
  local claim = claimOf(ARGV[13])
  if claim[1] ~= ARGV[14] or claim[3] then return 0 end
  unclaim(ARGV[13])
end
local key, account, times, keepUntil, ttl, size = ARGV[2], ARGV[3], ARGV[4], ARGV[5], ARGV[6], ARGV[7]
local entry = place(key)
local was = redis.call('HMGET', entry, 'account', 'size', 'labels')
if was[1] then
  unlabel(was[3], key)
  forget(kept(was[2], was[1], key), was[2])
  if was[1] ~= account then unuse(was[1], key) end
  redis.call('PUBLISH', ARGV[12], cjson.encode({ key = key }))
end
redis.call('DEL', entry)
redis.call('HSET', entry, 'account', account, 'times', times, 'size', size, 'units', ARGV[8], 'labels', ARGV[15], 'price', ARGV[16], 'head', ARGV[9], 'body', ARGV[10])
redis.call('PEXPIRE', entry, ttl)
redis.call('ZADD', base .. 'keys', 0, key)
if redis.call('ZADD', base .. 'keep', keepUntil, kept(size, account, key)) == 1 then redis.call('INCRBY', base .. 'bytes', size) end
redis.call('ZADD', base .. 'used:' .. account, tick(), key)
redis.call('SADD', base .. 'accounts', account)
for _, label in ipairs(labelsOf(ARGV[15])) do
  local all = base .. 'label:' .. label
  for _, other in ipairs(redis.call('ZRANDMEMBER', all, 2)) do
    if redis.call('EXISTS', base .. 'entry:' .. other) == 0 then redis.call('ZREM', all, other) end
  end
  redis.call('ZADD', all, 0, key)
  outlive(all, ttl)
end
sweep(tonumber(ARGV[11]), 2)
return 1`)

/** base, key, times, keepUntil, the channel of changes. */
export const timesScript = script(`${common}
local entry = base .. 'entry:' .. ARGV[2]
local was = redis.call('HMGET', entry, 'times', 'account', 'size', 'labels')
if not was[1] or string.match(was[1], '^%S+') ~= string.match(ARGV[3], '^%S+') then return 0 end
local ttl = redis.call('PTTL', entry)
local before = string.match(was[1], '^%S+ %S+ %S+ %S+ %S+ (%S+)')
redis.call('HSET', entry, 'times', ARGV[3])
redis.call('PUBLISH', ARGV[5], cjson.encode({ key = ARGV[2] }))
redis.call('ZADD', base .. 'keep', 'XX', ARGV[4], kept(was[3], was[2], ARGV[2]))
if ttl > 0 then
  local left = number(math.max(1, ttl + ARGV[4] - before))
  redis.call('PEXPIRE', entry, left)
  for _, label in ipairs(labelsOf(was[4])) do outlive(base .. 'label:' .. label, left) end
end
return 1`)

/** base, then account, key, when it was stored, how often it was given, of that in place of a call, and when last, in turn: which were used, the latest last. */
export const useScript = script(`${common}
for i = 2, #ARGV, 6 do
  local key = ARGV[i + 1]
  redis.call('ZADD', base .. 'used:' .. ARGV[i], 'XX', tick(), key)
  if ARGV[i + 3] ~= '0' then
    local entry = place(key)
    local times = redis.call('HGET', entry, 'times')
    if times and string.match(times, '^%S+') == ARGV[i + 2] then
      redis.call('HINCRBY', entry, 'uses', ARGV[i + 3])
      redis.call('HINCRBY', entry, 'saved', ARGV[i + 4])
      redis.call('HSET', entry, 'used_at', ARGV[i + 5])
    end
  end
end
return 1`)

/** base, kind, name, account and place to go on from, limit, now. Returns how many, and from where to go on. */
export const invalidateScript = script(`${common}${walking}
local now = tonumber(ARGV[7])
local keys, account, after = walk(tonumber(ARGV[6]), ARGV[4], ARGV[5])
local count = 0
for _, key in ipairs(keys) do
  local times = redis.call('HGET', base .. 'entry:' .. key, 'times')
  if times then
    local stored, born, fresh, refreshable, usable, keep, must = string.match(times, '^(%S+) (%S+) (%S+) (%S+) (%S+) (%S+) (%S+)')
    local f = tonumber(fresh)
    local function capped(time) return number(math.min(f, now)) end
    redis.call('HSET', base .. 'entry:' .. key, 'times', table.concat({ stored, born, capped(fresh), capped(fresh), capped(fresh), keep, must, '1' }, ' '))
    count = count + 1
  end
end
return { count, account or '', after or '', after and 1 or 0 }`)

/** base, kind, name, limit. Returns how many were dropped, and whether there are more. */
export const removeScript = script(`${common}${walking}
local keys, _, after = walk(tonumber(ARGV[4]), '', '')
local count = 0
for _, key in ipairs(keys) do
  if drop(key) then count = count + 1 end
end
return { count, after and 1 or 0 }`)

/** base, kind, name, limit. Returns how many there are of a selection, and of those used least recently keys and uses in turn. */
export const oldestScript = script(`${common}${walking}
local limit = tonumber(ARGV[4])
local found = { 0 }
if kind == 'under' or kind == 'key' or kind == 'path' or kind == 'label' then
  local after = ''
  repeat
    local keys, _, next = walk(1000, '', after)
    for _, key in ipairs(keys) do
      local account = redis.call('HGET', base .. 'entry:' .. key, 'account')
      if account then
        found[1] = found[1] + 1
        found[#found + 1] = key
        found[#found + 1] = redis.call('ZSCORE', base .. 'used:' .. account, key) or '0'
      end
    end
    after = next
  until not next
  return found
end
for _, account in ipairs(accounts()) do
  found[1] = found[1] + redis.call('ZCARD', base .. 'used:' .. account)
  for _, text in ipairs(redis.call('ZRANGE', base .. 'used:' .. account, 0, limit - 1, 'WITHSCORES')) do found[#found + 1] = text end
end
return found`)

/** base, keys. Returns the accounts and times of those that were dropped, in turn. */
export const dropScript = script(`${common}
local dropped = {}
for i = 2, #ARGV do
  local was = drop(ARGV[i])
  if was then
    dropped[#dropped + 1] = was[1]
    dropped[#dropped + 1] = was[3]
  end
end
return dropped`)

/** base, now, limit. Returns how many were dropped, and whether there are more. */
export const sweepScript = script(`${common}
local count, more = sweep(tonumber(ARGV[2]), tonumber(ARGV[3]))
return { count, more }`)

/** base, kind, name, key to go on after, most. Returns how far was looked, whether that is the end, and rows: key, account, times, units, labels, price, head, size of the body, uses, saved, used_at. */
export const listScript = script(`${common}${walking}
local after, most = ARGV[4], tonumber(ARGV[5])
local place, from, to = base .. 'keys', '-', '+'
if kind == 'under' or kind == 'key' then from, to = '[' .. name, '(' .. name .. '!' end
if kind == 'path' then from, to = '[' .. name, '(' .. string.sub(name, 1, -2) .. '@' end
if kind == 'label' then place = base .. 'label:' .. name end
if after ~= '' and (from == '-' or after >= name) then from = '(' .. after end
local wanted = {}
local isByAccount = kind == 'all' or kind == 'provider' or kind == 'endpoint'
for _, account in ipairs(isByAccount and accounts() or {}) do wanted[account] = true end
local rows, looked = {}, 0
while true do
  local range = redis.call('ZRANGEBYLEX', place, from, to, 'LIMIT', 0, 200)
  for _, key in ipairs(range) do
    local isMeant = kind == 'key' and key == name or kind == 'under' and (key == name or string.sub(key, 1, #name + 1) == name .. ' ')
      or kind == 'path' or kind == 'label'
    local isHash = redis.call('TYPE', base .. 'entry:' .. key).ok == 'hash'
    local row = isHash and redis.call('HMGET', base .. 'entry:' .. key, 'account', 'times', 'units', 'labels', 'price', 'head', 'uses', 'saved', 'used_at') or {}
    if row[1] and row[2] and (isMeant or wanted[row[1]]) then
      rows[#rows + 1] = key
      for i = 1, 6 do rows[#rows + 1] = row[i] or '' end
      rows[#rows + 1] = tostring(redis.call('HSTRLEN', base .. 'entry:' .. key, 'body'))
      for i = 7, 9 do rows[#rows + 1] = row[i] or '' end
    end
    looked = looked + 1
    if #rows / 11 >= most then return { key, '0', unpack(rows) } end
  end
  if #range < 200 then return { '', '1', unpack(rows) } end
  from = '(' .. range[#range]
  if looked >= 2000 then return { range[#range], '0', unpack(rows) } end
end`)
