# Reads calls at a berth, one a line: ship, minute of arrival, minute of leaving, divided by blanks.
# Prints for each ship, in the order of its first call, its name, the number of its calls, and the
# length of its @@len.says@@ call in minutes; at the end a line "all" with the number of calls of all ships
# and the @@len.says@@ of them. A call that leaves before it arrives goes on over midnight: its length is
# counted to the leaving time of the next day. Lines that begin with "void" are left out.
MINUTES_A_DAY = 1440

calls = Hash.new { |hash, ship| hash[ship] = [] }
STDIN.each_line do |line|
  ship, arrives, leaves = line.split
  next if ship.nil? || ship == "void"

  length = leaves.to_i - arrives.to_i
  length += MINUTES_A_DAY if length.negative?
  calls[ship] << length
end

calls.each { |ship, lengths| puts "#{ship} #{lengths.size} #{lengths.@@len.fn@@}" }
every = calls.values.flatten
puts "all #{every.size} #{every.@@len.fn@@ || 0}"
