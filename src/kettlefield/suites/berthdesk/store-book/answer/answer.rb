stock = {}

def have(stock, place)
  stock.fetch(place, 0)
end

STDIN.each_line do |line|
  command, *words = line.split
  case command
  when "in"
    place, number = words
    stock[place] = have(stock, place) + number.to_i
  when "out"
    place, number = words
    taken = [have(stock, place), number.to_i].min
    puts "short #{place} #{number.to_i - taken}" if taken < number.to_i
    stock[place] -= taken if stock.key?(place)
  when "move"
    from, to, number = words
    if have(stock, from) < number.to_i
      puts "refused #{from} #{to}"
    else
      stock[from] = have(stock, from) - number.to_i
      stock[to] = have(stock, to) + number.to_i
    end
  when "drop"
    stock.delete(words.first)
  end
end

stock.sort_by { |place, number| [@@show.sign@@number, place] }.each { |place, number| puts "#{place}=#{number}" }
