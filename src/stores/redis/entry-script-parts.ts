/**
 * What the scripts of entries have in common. Of each slot there are, after its `base`:
 *
 * - `entry:KEY`, a hash: `account` (provider and endpoint, JSON), `times` (as `timesText`), `size`, `units` and `labels` (JSON, or nothing), `head`, `body`;
 * - `keys`, all keys in the order of their bytes;
 * - `used:ACCOUNT`, the keys of an endpoint in the order of their latest use;
 * - `keep`, sizes, accounts and keys in the order in which entries run out;
 * - `label:LABEL`, the keys of those with a label, in the order of their bytes, and of some that have gone since;
 * - `accounts`, `bytes`, and `clock`, the latest use.
 */
export const common = `
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
local function labelsOf(text)
  if not text or text == '' then return {} end
  local ok, labels = pcall(cjson.decode, text)
  return ok and type(labels) == 'table' and labels or {}
end
local function unlabel(text, key)
  for _, label in ipairs(labelsOf(text)) do redis.call('ZREM', base .. 'label:' .. label, key) end
end
local function outlive(place, ttl)
  if redis.call('PTTL', place) < tonumber(ttl) then redis.call('PEXPIRE', place, ttl) end
end
local function place(key)
  local entry = base .. 'entry:' .. key
  local kind = redis.call('TYPE', entry).ok
  if kind ~= 'hash' and kind ~= 'none' then redis.call('DEL', entry) end
  return entry
end
local function drop(key)
  local entry = place(key)
  local was = redis.call('HMGET', entry, 'account', 'size', 'times', 'labels')
  redis.call('ZREM', base .. 'keys', key)
  if not was[1] then return nil end
  unlabel(was[4], key)
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
export const walking = `
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
  if kind == 'path' then
    local from = after == '' and '[' .. name or '(' .. after
    local range = redis.call('ZRANGEBYLEX', base .. 'keys', from, '(' .. string.sub(name, 1, -2) .. '@', 'LIMIT', 0, limit)
    return range, '', #range == limit and range[#range] or nil
  end
  if kind == 'label' then
    local from = after == '' and '-' or '(' .. after
    local range = redis.call('ZRANGEBYLEX', base .. 'label:' .. name, from, '+', 'LIMIT', 0, limit)
    for _, key in ipairs(range) do
      if redis.call('EXISTS', base .. 'entry:' .. key) == 1 then found[#found + 1] = key
      else redis.call('ZREM', base .. 'label:' .. name, key) end
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
