import { claimParts } from './claim-scripts.js'
import { script } from './link.js'

/**
 * What the scripts of entries have in common. Of each slot there are, after its `base`:
 *
 * - `entry:KEY`, a hash: `account` (provider and endpoint, JSON), `times` (as `timesText`), `size`, `units` (JSON), `head`, `body`;
 * - `keys`, all keys in the order of their bytes;
 * - `used:ACCOUNT`, the keys of an endpoint in the order of their latest use;
 * - `keep`, sizes, accounts and keys in the order in which entries run out;
 * - `accounts`, `bytes`, and `clock`, the latest use.
 */
const common = `
local base = ARGV[1]
local function number(n) return string.format('%.0f', n) end
local function tick()
  local t = redis.call('TIME')
  local now = t[1] * 1000000 + t[2]
  local last = tonumber(redis.call('GET', base .. 'clock') or '0')
  if now <= last then now = last + 1 end
  redis.call('SET', base .. 'clock', number(now))
  return number(now)
end
local function kept(size, account, key) return size .. '\\n' .. account .. '\\n' .. key end
local function forget(member, size)
  if redis.call('ZREM', base .. 'keep', member) == 1 then redis.call('DECRBY', base .. 'bytes', size) end
end
local function unuse(account, key)
  redis.call('ZREM', base .. 'used:' .. account, key)
  if redis.call('EXISTS', base .. 'used:' .. account) == 0 then redis.call('SREM', base .. 'accounts', account) end
end
local function place(key)
  local entry = base .. 'entry:' .. key
  local kind = redis.call('TYPE', entry).ok
  if kind ~= 'hash' and kind ~= 'none' then redis.call('DEL', entry) end
  return entry
end
local function drop(key)
  local entry = place(key)
  local was = redis.call('HMGET', entry, 'account', 'size', 'times')
  redis.call('ZREM', base .. 'keys', key)
  if not was[1] then return nil end
  forget(kept(was[2], was[1], key), was[2])
  unuse(was[1], key)
  redis.call('DEL', entry)
  return was
end
local function sweep(now, limit)
  local over = redis.call('ZRANGEBYSCORE', base .. 'keep', '-inf', number(now), 'LIMIT', 0, limit)
  local count = 0
  for _, member in ipairs(over) do
    local size, account, key = string.match(member, '^(%d+)\\n([^\\n]*)\\n(.*)$')
    local was = redis.call('HMGET', base .. 'entry:' .. key, 'account', 'size')
    if was[1] and kept(was[2], was[1], key) == member then
      drop(key)
      count = count + 1
    else
      forget(member, size)
      if was[1] ~= account then unuse(account, key) end
      if not was[1] then
        redis.call('ZREM', base .. 'keys', key)
        count = count + 1
      end
    end
  end
  return count, #over == limit and 1 or 0
end
`

/** What finds the entries of a selection: \`walk(limit, account, after)\` gives keys, and from where to go on, if there are more. */
const walking = `
local kind, name = ARGV[2], ARGV[3]
local function accounts()
  local all = redis.call('SMEMBERS', base .. 'accounts')
  table.sort(all)
  if kind == 'all' then return all end
  local some = {}
  for _, account in ipairs(all) do
    if kind == 'endpoint' and account == name or kind == 'provider' and string.sub(account, 1, #name) == name then some[#some + 1] = account end
  end
  return some
end
local function walk(limit, account, after)
  local found = {}
  if kind == 'key' then
    if redis.call('EXISTS', base .. 'entry:' .. name) == 1 then found[1] = name end
    return found, nil, nil
  end
  if kind == 'under' then
    local from = after == '' and '[' .. name or '(' .. after
    local range = redis.call('ZRANGEBYLEX', base .. 'keys', from, '(' .. name .. '!', 'LIMIT', 0, limit)
    for _, key in ipairs(range) do
      if key == name or string.sub(key, 1, #name + 1) == name .. ' ' then found[#found + 1] = key end
    end
    return found, '', #range == limit and range[#range] or nil
  end
  for _, one in ipairs(accounts()) do
    if one >= account then
      local min = one == account and after ~= '' and '(' .. after or '-inf'
      local range = redis.call('ZRANGEBYSCORE', base .. 'used:' .. one, min, '+inf', 'WITHSCORES', 'LIMIT', 0, limit - #found)
      for i = 1, #range, 2 do found[#found + 1] = range[i] end
      if #found >= limit then return found, one, range[#range] end
    end
  end
  return found, nil, nil
end
`

/** base, key, account, times, keepUntil, milliseconds to keep it, size, units, head, body, when what is dropped besides had run out, the channel of changes, and the key and token of its claim, or nothing. Returns 0 where that holds no more. */
export const putScript = script(`${common}${claimParts}
if ARGV[13] ~= '' then
  local claim = claimOf(ARGV[13])
  if claim[1] ~= ARGV[14] or claim[3] then return 0 end
  unclaim(ARGV[13])
end
local key, account, times, keepUntil, ttl, size = ARGV[2], ARGV[3], ARGV[4], ARGV[5], ARGV[6], ARGV[7]
local entry = place(key)
local was = redis.call('HMGET', entry, 'account', 'size')
if was[1] then
  forget(kept(was[2], was[1], key), was[2])
  if was[1] ~= account then unuse(was[1], key) end
  redis.call('PUBLISH', ARGV[12], cjson.encode({ key = key }))
end
redis.call('DEL', entry)
redis.call('HSET', entry, 'account', account, 'times', times, 'size', size, 'units', ARGV[8], 'head', ARGV[9], 'body', ARGV[10])
redis.call('PEXPIRE', entry, ttl)
redis.call('ZADD', base .. 'keys', 0, key)
if redis.call('ZADD', base .. 'keep', keepUntil, kept(size, account, key)) == 1 then redis.call('INCRBY', base .. 'bytes', size) end
redis.call('ZADD', base .. 'used:' .. account, tick(), key)
redis.call('SADD', base .. 'accounts', account)
sweep(tonumber(ARGV[11]), 2)
return 1`)

/** base, key, times, keepUntil, the channel of changes. */
export const timesScript = script(`${common}
local entry = base .. 'entry:' .. ARGV[2]
local was = redis.call('HMGET', entry, 'times', 'account', 'size')
if not was[1] or string.match(was[1], '^%S+') ~= string.match(ARGV[3], '^%S+') then return 0 end
local ttl = redis.call('PTTL', entry)
local before = string.match(was[1], '^%S+ %S+ %S+ %S+ %S+ (%S+)')
redis.call('HSET', entry, 'times', ARGV[3])
redis.call('PUBLISH', ARGV[5], cjson.encode({ key = ARGV[2] }))
redis.call('ZADD', base .. 'keep', 'XX', ARGV[4], kept(was[3], was[2], ARGV[2]))
if ttl > 0 then redis.call('PEXPIRE', entry, number(math.max(1, ttl + ARGV[4] - before))) end
return 1`)

/** base, then accounts and keys in turn: which were used, the latest last. */
export const useScript = script(`${common}
for i = 2, #ARGV, 2 do redis.call('ZADD', base .. 'used:' .. ARGV[i], 'XX', tick(), ARGV[i + 1]) end
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
if kind == 'under' or kind == 'key' then
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

/** base, kind, name, key to go on after, most. Returns how far was looked, whether that is the end, and rows: key, account, times, units, head, size of the body. */
export const listScript = script(`${common}${walking}
local after, most = ARGV[4], tonumber(ARGV[5])
local from, to = '-', '+'
if kind == 'under' or kind == 'key' then from, to = '[' .. name, '(' .. name .. '!' end
if after ~= '' and (from == '-' or after >= name) then from = '(' .. after end
local wanted = {}
local isOne = kind == 'under' or kind == 'key'
for _, account in ipairs(isOne and {} or accounts()) do wanted[account] = true end
local rows, looked = {}, 0
while true do
  local range = redis.call('ZRANGEBYLEX', base .. 'keys', from, to, 'LIMIT', 0, 200)
  for _, key in ipairs(range) do
    local isMeant = kind == 'key' and key == name or kind == 'under' and (key == name or string.sub(key, 1, #name + 1) == name .. ' ')
    local isHash = redis.call('TYPE', base .. 'entry:' .. key).ok == 'hash'
    local row = isHash and redis.call('HMGET', base .. 'entry:' .. key, 'account', 'times', 'units', 'head') or {}
    if row[1] and row[2] and (isMeant or wanted[row[1]]) then
      for _, text in ipairs({ key, row[1], row[2], row[3] or '', row[4] or '', tostring(redis.call('HSTRLEN', base .. 'entry:' .. key, 'body')) }) do
        rows[#rows + 1] = text
      end
    end
    looked = looked + 1
    if #rows / 6 >= most then return { key, '0', unpack(rows) } end
  end
  if #range < 200 then return { '', '1', unpack(rows) } end
  from = '(' .. range[#range]
  if looked >= 2000 then return { range[#range], '0', unpack(rows) } end
end`)
