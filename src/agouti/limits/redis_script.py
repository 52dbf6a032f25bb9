"""The script that keeps limits in a Redis server: what it does is done at one moment, by the server's own clock.

A request is a member ``PROCESS|NUMBER``. It stands in the row while it waits, then among those that run, and in a
window for every limit, with the time at which the provider has counted it at the latest. A process that says nothing
for the length of a lease is gone, and so are its members.
"""

SCRIPT = """
local base, op, member, lease = KEYS[1], ARGV[1], ARGV[2], ARGV[3]
local row, run, seq, blocked = base .. ':row', base .. ':run', base .. ':seq', base .. ':blocked'
local weights, promised, kept, STALLED = base .. ':weights', base .. ':promised', 172800, 0.5
local t = redis.call('TIME')
local now = tonumber(t[1]) + tonumber(t[2]) / 1000000

local function process_of(each) return string.match(each, '^[^|]*') end
local function alive(each) return redis.call('EXISTS', 'agouti:alive:' .. process_of(each)) == 1 end
-- When a process is gone, if it says nothing more.
local function lease_of(each)
  return math.max(redis.call('PTTL', 'agouti:alive:' .. process_of(each)), 0) / 1000 + 0.05
end
local function number(value) return string.format('%.6f', value) end
local windows = {
  {key = base .. ':second', seconds = 1, weighed = false},
  {key = base .. ':minute', seconds = 60, weighed = false},
  {key = base .. ':tokens', seconds = 60, weighed = true},
}

local function head()
  while true do
    local first = redis.call('ZRANGE', row, 0, 0)[1]
    if not first or first == member or alive(first) then return first end
    redis.call('ZREM', row, first)
    redis.call('HDEL', weights, first)
    redis.call('HDEL', promised, first)
  end
end
local function wake()
  local first = head()
  if first then redis.call('PUBLISH', 'agouti:wake:' .. process_of(first), first) end
end
local function forget(each)
  for _, window in ipairs(windows) do redis.call('ZREM', window.key, each) end
  redis.call('HDEL', weights, each)
end

if op == 'leave' then
  if redis.call('ZREM', row, member) == 1 then redis.call('HDEL', weights, member) end
  redis.call('HDEL', promised, member)
  if redis.call('ZREM', run, member) == 1 then
    forget(member)
    local count = base .. ':day:' .. ARGV[4]
    if redis.call('EXISTS', count) == 1 then redis.call('DECR', count) end
  end
  wake()
  return {'left', ''}
end

if op == 'sent' then
  for at, window in ipairs(windows) do
    if redis.call('ZSCORE', window.key, member) then
      redis.call('ZADD', window.key, number(now + ARGV[3 + at]), member)
    end
  end
  wake()
  return {'sent', ''}
end

if op == 'ended' then
  local tokens, wait = ARGV[4], tonumber(ARGV[5])
  if redis.call('ZREM', run, member) == 1 then
    for at, window in ipairs(windows) do
      local score = redis.call('ZSCORE', window.key, member)
      if score then
        local earlier = tonumber(score) - ARGV[5 + at]
        if earlier ~= earlier or earlier > now then earlier = now end
        redis.call('ZADD', window.key, number(earlier), member)
      end
    end
    if tokens ~= '' and redis.call('HEXISTS', weights, member) == 1 then redis.call('HSET', weights, member, tokens) end
  end
  local used_up = false
  for at = 1, 2 do
    local most_of_it = tonumber(ARGV[8 + at])
    used_up = used_up or (most_of_it > 0 and redis.call('ZCARD', windows[at].key) >= most_of_it)
  end
  if not used_up and wait > 0 and now + wait > tonumber(redis.call('GET', blocked) or '0') then
    redis.call('SET', blocked, number(now + wait), 'PX', math.ceil(wait * 1000))
  end
  wake()
  return {'ended', ''}
end

local most = {tonumber(ARGV[4]), tonumber(ARGV[5]), tonumber(ARGV[6])}
local at_once, per_day, day, rest = tonumber(ARGV[7]), tonumber(ARGV[8]), ARGV[9], tonumber(ARGV[10])
local tokens, left, unsent = tonumber(ARGV[11]), tonumber(ARGV[12]), ARGV[13] == '1'
local delays = {tonumber(ARGV[14]), tonumber(ARGV[15]), tonumber(ARGV[16])}
redis.call('SET', 'agouti:alive:' .. process_of(member), '1', 'PX', lease)

local fresh = not redis.call('ZSCORE', row, member)
if fresh then
  redis.call('ZADD', row, redis.call('INCR', seq), member)
  if most[3] > 0 then redis.call('HSET', weights, member, tokens) end
end

-- What counts in a window, as {time, weight}, as far as so many more need to know; requests that have not gone out yet
-- count without end.
local function counted_in(window, limit, more)
  for _, each in ipairs(redis.call('ZRANGEBYSCORE', window.key, '-inf', number(now - window.seconds))) do
    redis.call('ZREM', window.key, each)
    if window.weighed then redis.call('HDEL', weights, each) end
  end
  for _, each in ipairs(redis.call('ZRANGEBYSCORE', window.key, '+inf', '+inf')) do
    if not alive(each) then redis.call('ZADD', window.key, number(now), each) end
  end
  local used, last = 0, -1
  if not window.weighed then
    used = redis.call('ZCARD', window.key)
    last = used + more - limit - 1
    if last < 0 then return {first = 1, used = used} end
  end
  local found = redis.call('ZRANGE', window.key, 0, last, 'WITHSCORES')
  local list = {first = 1}
  for i = 1, #found, 2 do
    local weight = window.weighed and tonumber(redis.call('HGET', weights, found[i]) or '0') or 1
    table.insert(list, {time = found[i + 1] == 'inf' and math.huge or tonumber(found[i + 1]), weight = weight})
    if window.weighed then used = used + weight end
  end
  list.used = used
  return list
end

-- When it is a member's turn at the earliest, if all before it take theirs, and when it was that of the first one;
-- nil: nobody knows.
local function turn_of(rank)
  if at_once > 0 and redis.call('ZCARD', run) + rank + 1 > at_once then
    for _, each in ipairs(redis.call('ZRANGE', run, 0, -1)) do
      if not alive(each) then redis.call('ZREM', run, each) end
    end
    if redis.call('ZCARD', run) + rank + 1 > at_once then return nil end
  end
  local lists, before = {}, {}
  for at, window in ipairs(windows) do
    if most[at] > 0 then lists[at] = counted_in(window, most[at], rank + 1) end
  end
  if most[3] > 0 then before = redis.call('ZRANGE', row, 0, rank) end
  local used_today = per_day > 0 and tonumber(redis.call('GET', base .. ':day:' .. day) or '0') or 0
  local turn, since = tonumber(redis.call('GET', blocked) or '0'), nil
  for each = 0, rank do
    if per_day > 0 and used_today + each >= per_day then turn = math.max(turn, now + rest) end
    for at, list in pairs(lists) do
      local weight = windows[at].weighed and tonumber(redis.call('HGET', weights, before[each + 1]) or '0') or 1
      while list.used + weight > most[at] and list[list.first] do
        if list[list.first].time == math.huge then return nil end
        turn = math.max(turn, list[list.first].time + windows[at].seconds)
        list.used = list.used - list[list.first].weight
        list.first = list.first + 1
      end
    end
    since = since or turn
    turn = math.max(turn, now)
    for at, list in pairs(lists) do
      local weight = windows[at].weighed and tonumber(redis.call('HGET', weights, before[each + 1]) or '0') or 1
      table.insert(list, {time = turn, weight = weight})
      list.used = list.used + weight
    end
  end
  return turn, since
end

local function asleep(seconds)
  redis.call('EXPIRE', row, kept)
  redis.call('EXPIRE', seq, kept)
  redis.call('EXPIRE', weights, kept)
  redis.call('HSET', promised, member, number(now + seconds))
  redis.call('EXPIRE', promised, kept)
  return {'wait', number(seconds)}
end
local function late(seconds)
  redis.call('ZREM', row, member)
  redis.call('HDEL', weights, member)
  redis.call('HDEL', promised, member)
  wake()
  return {'late', seconds}
end

local first = head()
local turn, since = turn_of(redis.call('ZRANK', row, member))
since = since and math.max(since, tonumber(redis.call('HGET', promised, first) or now))
if first ~= member and since and now - since > STALLED then
  -- The first one has not looked when it said that it would: it and all of its process stand at the end now.
  local stalled = process_of(first)
  for _, each in ipairs(redis.call('ZRANGE', row, 0, -1)) do
    if process_of(each) == stalled and each ~= member then redis.call('ZADD', row, redis.call('INCR', seq), each) end
  end
  wake()
  turn = turn_of(redis.call('ZRANK', row, member))
end
if not turn then
  if left <= 0 then return late('') end
  -- Until somebody ends; those that were killed say nothing.
  local soonest = tonumber(lease) / 1000
  for _, each in ipairs(redis.call('ZRANGE', run, 0, -1)) do soonest = math.min(soonest, lease_of(each)) end
  if first ~= member then soonest = math.min(soonest, lease_of(first)) end
  return asleep(soonest)
end
if turn > now then
  if turn - now > left then return late(number(turn - now)) end
  return asleep(math.min(turn - now, first == member and 86400 or lease_of(first) + STALLED))
end
redis.call('ZREM', row, member)
redis.call('HDEL', promised, member)
redis.call('ZADD', run, number(now), member)
redis.call('EXPIRE', run, kept)
for number_of, window in ipairs(windows) do
  if most[number_of] > 0 then
    redis.call('ZADD', window.key, unsent and '+inf' or number(now + delays[number_of]), member)
    redis.call('EXPIRE', window.key, kept)
    if window.weighed then
      redis.call('HSET', weights, member, tokens)
      redis.call('EXPIRE', weights, kept)
    end
  end
end
if per_day > 0 then
  redis.call('INCR', base .. ':day:' .. day)
  redis.call('EXPIRE', base .. ':day:' .. day, kept)
end
wake()
return {'go', '0'}
"""
