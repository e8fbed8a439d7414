# Reads calls at a berth, one a line: ship, minute of arrival, minute of leaving, divided by blanks.
# Prints for each ship, in the order of its first call, its name, the number of its calls, and the
# length of its @@len.says@@ call in minutes; at the end a line "all" with the number of calls of all ships
# and the @@len.says@@ of them. A call that leaves before it arrives goes on over midnight: its length is
# counted to the leaving time of the next day. Lines that begin with "void" are left out.
MINUTES_A_DAY = 1440

calls = Hash.new { |hash, ship| hash[ship] = [] }
STDIN.each_line do |line|
  words = line.strip.split(" ")
  unless words.empty? || words.first == "void"
    arrives, leaves = words[1..2].map { |word| Integer(word, 10) }
    calls[words.first].push((leaves - arrives) % MINUTES_A_DAY)
  end
end
total = 0
longest = nil
calls.each_pair do |ship, lengths|
  total += lengths.length
  longest = [*longest, *lengths].@@len.fn@@
  puts [ship, lengths.length, lengths.@@len.fn@@].join(" ")
end
puts "all #{total} #{longest || 0}"
