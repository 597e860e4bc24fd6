import { script } from './link.js'

/**
 * base, changes as JSON, accounts as JSON: of each change the hash and field, what it has to hold now, and what is to take its place, null for nothing.
 * All of them or, where one holds something else, none. Then the writer and number of the batch, if it is one, and for how long the writer is
 * remembered, milliseconds. Returns 1 where they were made, 0 where something else was there, 2 where the batch was added before.
 */
export const ledgerScript = script(`
local base, writer = ARGV[1], ARGV[4]
local changes = cjson.decode(ARGV[2])
if writer ~= '' and tonumber(redis.call('GET', base .. 'writer:' .. writer) or '0') >= tonumber(ARGV[5]) then return 2 end
for _, change in ipairs(changes) do
  local there = redis.call('HGET', base .. change[1], change[2])
  if (there or cjson.null) ~= change[3] then return 0 end
end
for _, change in ipairs(changes) do
  if change[4] == cjson.null then redis.call('HDEL', base .. change[1], change[2])
  else redis.call('HSET', base .. change[1], change[2], change[4]) end
end
for _, account in ipairs(cjson.decode(ARGV[3])) do redis.call('SADD', base .. 'accounts', account) end
if writer ~= '' then redis.call('SET', base .. 'writer:' .. writer, ARGV[5], 'PX', ARGV[6]) end
return 1`)

/** base, hashes. Returns the fields and values of each, as they are at one moment. */
export const rowsScript = script(`
local found = {}
for i = 2, #ARGV do found[i - 1] = redis.call('HGETALL', ARGV[1] .. ARGV[i]) end
return found`)

/** base, facts, how many there have to be before them. Returns whether they were added. */
export const factsScript = script(`
local place = ARGV[1] .. 'facts'
if redis.call('LLEN', place) ~= tonumber(ARGV[3]) then return 0 end
redis.call('RPUSH', place, ARGV[2])
return 1`)
