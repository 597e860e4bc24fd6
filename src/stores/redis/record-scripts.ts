import { script } from './link.js'

/** base, name, the mark that was seen, value, next mark, keepUntil, milliseconds to keep it. Returns what is there instead, if that is another. */
export const recordScript = script(`
local base, name = ARGV[1], ARGV[2]
local place = base .. 'record:' .. name
local kind = redis.call('TYPE', place).ok
if kind ~= 'hash' and kind ~= 'none' then redis.call('DEL', place) end
local kept = redis.call('HMGET', place, 'mark', 'value', 'keep_until')
if (kept[1] or '') ~= ARGV[3] then return { kept[1] or '', kept[2] or '', kept[3] or '0' } end
redis.call('DEL', place)
redis.call('HSET', place, 'mark', ARGV[5], 'value', ARGV[4], 'keep_until', ARGV[6])
redis.call('PEXPIRE', place, ARGV[7])
redis.call('ZADD', base .. 'names', 0, name)
return { ARGV[5] }`)

/** base, prefix, the name to go on after, limit, 1 to forget what is gone. Returns names, values and ends in turn. */
export const recordsScript = script(`
local base, prefix, after = ARGV[1], ARGV[2], ARGV[3]
local from = after == '' and (prefix == '' and '-' or '[' .. prefix) or '(' .. after
local found = {}
local names = redis.call('ZRANGEBYLEX', base .. 'names', from, '+', 'LIMIT', 0, ARGV[4])
for _, name in ipairs(names) do
  if string.sub(name, 1, #prefix) ~= prefix then return { '', unpack(found) } end
  local isHash = redis.call('TYPE', base .. 'record:' .. name).ok == 'hash'
  local kept = isHash and redis.call('HMGET', base .. 'record:' .. name, 'value', 'keep_until') or {}
  if kept[1] and kept[2] then
    for _, text in ipairs({ name, kept[1], kept[2] }) do found[#found + 1] = text end
  elseif ARGV[5] == '1' and not isHash then
    redis.call('ZREM', base .. 'names', name)
  end
end
return { #names == tonumber(ARGV[4]) and names[#names] or '', unpack(found) }`)

/** base, name, when it ran out at the latest: dropped unless it was changed since. */
export const recordDropScript = script(`
local place = ARGV[1] .. 'record:' .. ARGV[2]
local until_ = tonumber(redis.call('HGET', place, 'keep_until') or '0')
if until_ > tonumber(ARGV[3]) then return 0 end
redis.call('DEL', place)
redis.call('ZREM', ARGV[1] .. 'names', ARGV[2])
return 1`)
