SHORT = 660

def read_duty(line)
  name, *minutes = line.split(",", -1).map(&:strip)
  return nil unless minutes.size == 2 && !name.empty? && minutes.all? { |text| text.match?(/\A\d+\z/) }

  first, last = minutes.map(&:to_i)
  last > first ? [name, first, last] : nil
end

def merge(duties)
  duties.sort.each_with_object([]) do |(first, last), merged|
    if merged.any? && first <= merged.last[1]
      merged.last[1] = [merged.last[1], last].max
    else
      merged << [first, last]
    end
  end
end

duties = Hash.new { |hash, name| hash[name] = [] }
bad = []
STDIN.each_line.with_index(1) do |line, number|
  next if line.strip.empty?

  name, first, last = read_duty(line)
  if name.nil?
    bad << number
  else
    duties[name] << [first, last]
  end
end

duties.sort.each do |name, spans|
  merged = merge(spans)
  minutes = merged.sum { |first, last| last - first }
  short = merged.each_cons(2).count { |before, after| after[0] - before[1] < SHORT }
  puts "#{name}: #{merged.map { |span| span.join("-") }.join(" ")} (#{minutes} min, #{short} short)"
end
puts "bad lines: #{bad.join(", ")}" unless bad.empty?
