Duty = Struct.new(:from, :to)
people = {}
faulty = []
STDIN.read.split("\n").each_with_index do |row, at|
  next if row =~ /\A\s*\z/
  if (found = row.match(/\A\s*([^,]*[^,\s])\s*,\s*(\d+)\s*,\s*(\d+)\s*\z/)) && found[3].to_i > found[2].to_i
    (people[found[1]] ||= []).push(Duty.new(found[2].to_i, found[3].to_i))
  else
    faulty.push(at + 1)
  end
end
people.keys.sort.each do |who|
  list = []
  people[who].sort_by { |duty| [duty.from, duty.to] }.each do |duty|
    if list.empty? || duty.from > list[-1].to
      list.push(duty.dup)
    elsif duty.to > list[-1].to
      list[-1].to = duty.to
    end
  end
  short = (1...list.length).select { |i| list[i].from - list[i - 1].to < 660 }.length
  text = list.map { |duty| format("%d-%d", duty.from, duty.to) }.join(" ")
  printf("%s: %s (%d min, %d short)\n", who, text, list.map { |duty| duty.to - duty.from }.sum, short)
end
print "bad lines: ", faulty.join(", "), "\n" if faulty.any?
