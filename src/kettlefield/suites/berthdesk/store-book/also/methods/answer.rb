class Book
  def initialize
    @places = {}
  end

  def run(words)
    name = words.shift
    send("do_#{name}", *words) if name
  end

  def do_in(place, number)
    @places[place] = (@places[place] || 0) + Integer(number)
  end

  def do_out(place, number)
    wanted = Integer(number)
    there = @places[place] || 0
    puts "short #{place} #{wanted - there}" if there < wanted
    @places[place] = [there - wanted, 0].max if @places.include?(place)
  end

  def do_move(from, to, number)
    number = Integer(number)
    there = @places[from] || 0
    return puts("refused #{from} #{to}") if there < number

    do_in(from, -number)
    do_in(to, number)
  end

  def do_drop(place)
    @places.delete(place)
  end

  def show
    @places.keys.sort.sort_by { |place| [@@show.sign@@@places[place], place] }.each { |place| puts "#{place}=#{@places[place]}" }
  end
end

book = Book.new
$stdin.readlines.each { |line| book.run(line.split) }
book.show
