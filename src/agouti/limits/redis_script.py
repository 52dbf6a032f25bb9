"""The script that keeps limits in a Redis server: what it does is done at one moment, by the server's own clock.

A request is a member ``PROCESS|NUMBER``. It stands in the row of each place that it needs, a model's and a provider's,
while it waits; then among those that run, and in a window for every limit, with the time at which the provider has
counted it at the latest. A process that says nothing for the length of a lease is gone, and so are its members. What a
window of tokens holds is kept as a sum: nobody reads a whole minute.
"""

SCRIPT = """
local op, member, lease = ARGV[1], ARGV[2], ARGV[3]
local kept, STALLED, PAGE = 172800, 0.5, 50
local t = redis.call('TIME')
local now = tonumber(t[1]) + tonumber(t[2]) / 1000000
local read = 3
local function argument()
  read = read + 1
  return ARGV[read]
end
local function number(value) return string.format('%.6f', value) end

local function process_of(each) return string.match(each, '^[^|]*') end
local function alive(each) return redis.call('EXISTS', 'agouti:alive:' .. process_of(each)) == 1 end
-- When a process is gone, if it says nothing more.
local function lease_of(each)
  return math.max(redis.call('PTTL', 'agouti:alive:' .. process_of(each)), 0) / 1000 + 0.05
end

local places = {}
for at, base in ipairs(KEYS) do
  places[at] = {
    base = base, row = base .. ':row', run = base .. ':run', seq = base .. ':seq', blocked = base .. ':blocked',
    weights = base .. ':weights', promised = base .. ':promised', sum = base .. ':sum',
    windows = {
      {key = base .. ':second', seconds = 1, weighed = false},
      {key = base .. ':minute', seconds = 60, weighed = false},
      {key = base .. ':tokens', seconds = 60, weighed = true},
    },
  }
end

local function weight_of(place, each) return tonumber(redis.call('HGET', place.weights, each) or '0') end
local function add_up(place, more)
  if more ~= 0 then redis.call('INCRBY', place.sum, string.format('%.0f', more)) end
end
-- What the window of tokens holds; added up once where the sum is not there.
local function sum_of(place)
  local sum = redis.call('GET', place.sum)
  if sum then return tonumber(sum) end
  local total = 0
  for _, each in ipairs(redis.call('ZRANGE', place.windows[3].key, 0, -1)) do total = total + weight_of(place, each) end
  redis.call('SET', place.sum, string.format('%.0f', total), 'EX', kept)
  return total
end
local function drop(place, window, each)
  if redis.call('ZREM', window.key, each) == 1 and window.weighed then
    sum_of(place)
    add_up(place, -weight_of(place, each))
    redis.call('HDEL', place.weights, each)
  end
end

local function leave_row(place, each)
  if redis.call('ZREM', place.row, each) == 1 then redis.call('HDEL', place.weights, each) end
  redis.call('HDEL', place.promised, each)
end
local function head(place)
  while true do
    local first = redis.call('ZRANGE', place.row, 0, 0)[1]
    if not first or first == member or alive(first) then return first end
    leave_row(place, first)
  end
end
local function wake()
  for _, place in ipairs(places) do
    local first = head(place)
    if first then redis.call('PUBLISH', 'agouti:wake:' .. process_of(first), first) end
  end
end

if op == 'leave' then
  for _, place in ipairs(places) do
    local day = argument()
    leave_row(place, member)
    if redis.call('ZREM', place.run, member) == 1 then
      for _, window in ipairs(place.windows) do drop(place, window, member) end
      redis.call('HDEL', place.weights, member)
      local count = place.base .. ':day:' .. day
      if redis.call('EXISTS', count) == 1 then redis.call('DECR', count) end
    end
  end
  wake()
  return {'left', ''}
end

if op == 'sent' then
  for _, place in ipairs(places) do
    for _, window in ipairs(place.windows) do
      local delay = argument()
      if redis.call('ZSCORE', window.key, member) then redis.call('ZADD', window.key, number(now + delay), member) end
    end
  end
  wake()
  return {'sent', ''}
end

if op == 'ended' then
  for _, place in ipairs(places) do
    local tokens, wait = argument(), tonumber(argument())
    local sooner, used_up_at = {argument(), argument(), argument()}, {tonumber(argument()), tonumber(argument())}
    if redis.call('ZREM', place.run, member) == 1 then
      for at, window in ipairs(place.windows) do
        local score = redis.call('ZSCORE', window.key, member)
        if score then
          local earlier = tonumber(score) - sooner[at]
          if earlier ~= earlier or earlier > now then earlier = now end
          redis.call('ZADD', window.key, number(earlier), member)
          if window.weighed and tokens ~= '' then
            sum_of(place)
            add_up(place, tonumber(tokens) - weight_of(place, member))
            redis.call('HSET', place.weights, member, tokens)
          end
        end
      end
    end
    local used_up = false
    for at = 1, 2 do
      local most = used_up_at[at]
      used_up = used_up or (most > 0 and redis.call('ZCARD', place.windows[at].key) >= most)
    end
    if not used_up and wait > 0 and now + wait > tonumber(redis.call('GET', place.blocked) or '0') then
      redis.call('SET', place.blocked, number(now + wait), 'PX', math.ceil(wait * 1000))
    end
  end
  wake()
  return {'ended', ''}
end

local left, tokens = tonumber(argument()), tonumber(argument())
redis.call('SET', 'agouti:alive:' .. process_of(member), '1', 'PX', lease)
for _, place in ipairs(places) do
  place.most = {tonumber(argument()), tonumber(argument()), tonumber(argument())}
  place.at_once, place.per_day, place.day = tonumber(argument()), tonumber(argument()), argument()
  place.rest = tonumber(argument())
  place.delays = {tonumber(argument()), tonumber(argument()), tonumber(argument())}
  if not redis.call('ZSCORE', place.row, member) then
    redis.call('ZADD', place.row, redis.call('INCR', place.seq), member)
    if place.most[3] > 0 then redis.call('HSET', place.weights, member, tokens) end
  end
end

-- What counts in a window: how much, and those that are in it, the oldest first, read as far as somebody asks.
local function counted_in(place, window)
  for _, each in ipairs(redis.call('ZRANGEBYSCORE', window.key, '-inf', number(now - window.seconds))) do
    drop(place, window, each)
  end
  local used = window.weighed and sum_of(place) or redis.call('ZCARD', window.key)
  return {used = used, window = window, read = 0, there = {}, first = 1, later = {}, first_later = 1}
end
local function oldest(place, list)
  if list.first > #list.there and not list.all then
    local found = redis.call('ZRANGE', list.window.key, list.read, list.read + PAGE - 1, 'WITHSCORES')
    list.there, list.first, list.read, list.all = {}, 1, list.read + PAGE, #found < 2 * PAGE
    for i = 1, #found, 2 do
      local weight = list.window.weighed and weight_of(place, found[i]) or 1
      table.insert(list.there, {time = tonumber(found[i + 1]), weight = weight})
    end
  end
  return list.there[list.first] or list.later[list.first_later]
end
local function pass(list)
  if list.there[list.first] then list.first = list.first + 1 else list.first_later = list.first_later + 1 end
end

-- When it is a member's turn at the earliest, if all before it take theirs, and when it was that of the first one;
-- nil: nobody knows.
local function turn_of(place)
  local rank = redis.call('ZRANK', place.row, member)
  if place.at_once > 0 and redis.call('ZCARD', place.run) + rank + 1 > place.at_once then
    for _, each in ipairs(redis.call('ZRANGE', place.run, 0, -1)) do
      if not alive(each) then redis.call('ZREM', place.run, each) end
    end
    if redis.call('ZCARD', place.run) + rank + 1 > place.at_once then return nil end
  end
  local lists, before = {}, {}
  for at, window in ipairs(place.windows) do
    if place.most[at] > 0 then lists[at] = counted_in(place, window) end
  end
  if place.most[3] > 0 then before = redis.call('ZRANGE', place.row, 0, rank) end
  local used_today = place.per_day > 0 and tonumber(redis.call('GET', place.base .. ':day:' .. place.day) or '0') or 0
  local turn, since = tonumber(redis.call('GET', place.blocked) or '0'), nil
  for each = 0, rank do
    if place.per_day > 0 and used_today + each >= place.per_day then turn = math.max(turn, now + place.rest) end
    local weights = {}
    for at, list in pairs(lists) do
      weights[at] = list.window.weighed and weight_of(place, before[each + 1]) or 1
      while list.used + weights[at] > place.most[at] do
        local first = oldest(place, list)
        if not first then break end
        turn = math.max(turn, first.time + list.window.seconds)
        list.used = list.used - first.weight
        pass(list)
      end
    end
    since = since or turn
    turn = math.max(turn, now)
    for at, list in pairs(lists) do
      table.insert(list.later, {time = turn, weight = weights[at]})
      list.used = list.used + weights[at]
    end
  end
  return turn, since
end

local function asleep(seconds)
  for _, place in ipairs(places) do
    for _, key in ipairs({place.row, place.seq, place.weights, place.promised}) do redis.call('EXPIRE', key, kept) end
    redis.call('HSET', place.promised, member, number(now + seconds))
  end
  return {'wait', number(seconds)}
end
local function late(seconds)
  for _, place in ipairs(places) do leave_row(place, member) end
  wake()
  return {'late', seconds}
end
local function look()
  local latest, stalled = now, nil
  for _, place in ipairs(places) do
    local since
    place.first = head(place)
    place.turn, since = turn_of(place)
    since = since and math.max(since, tonumber(redis.call('HGET', place.promised, place.first) or now))
    if place.first ~= member and since and now - since > STALLED then stalled = process_of(place.first) end
    if not place.turn then latest = nil elseif latest then latest = math.max(latest, place.turn) end
  end
  return latest, stalled
end

local turn, stalled = look()
if stalled then
  -- The first one has not looked when it said that it would: it and all of its process stand at the end now.
  for _, place in ipairs(places) do
    for _, each in ipairs(redis.call('ZRANGE', place.row, 0, -1)) do
      if process_of(each) == stalled and each ~= member then
        redis.call('ZADD', place.row, redis.call('INCR', place.seq), each)
      end
    end
  end
  wake()
  turn = look()
end
if not turn then
  if left <= 0 then return late('') end
  -- Until somebody ends; those that were killed say nothing.
  local soonest = tonumber(lease) / 1000
  for _, place in ipairs(places) do
    if not place.turn then
      for _, each in ipairs(redis.call('ZRANGE', place.run, 0, -1)) do soonest = math.min(soonest, lease_of(each)) end
    end
    if place.first ~= member then soonest = math.min(soonest, lease_of(place.first)) end
  end
  return asleep(soonest)
end
if turn > now then
  if turn - now > left then return late(number(turn - now)) end
  local sleep = turn - now
  for _, place in ipairs(places) do
    if place.first ~= member then sleep = math.min(sleep, lease_of(place.first) + STALLED) end
  end
  return asleep(sleep)
end
for _, place in ipairs(places) do
  redis.call('ZREM', place.row, member)
  redis.call('HDEL', place.promised, member)
  redis.call('ZADD', place.run, number(now), member)
  redis.call('EXPIRE', place.run, kept)
  for at, window in ipairs(place.windows) do
    if place.most[at] > 0 then
      if window.weighed then
        sum_of(place)
        add_up(place, tokens)
        redis.call('HSET', place.weights, member, tokens)
        redis.call('EXPIRE', place.weights, kept)
        redis.call('EXPIRE', place.sum, kept)
      end
      redis.call('ZADD', window.key, number(now + place.delays[at]), member)
      redis.call('EXPIRE', window.key, kept)
    end
  end
  if place.per_day > 0 then
    redis.call('INCR', place.base .. ':day:' .. place.day)
    redis.call('EXPIRE', place.base .. ':day:' .. place.day, kept)
  end
end
wake()
return {'go', '0'}
"""
