# frozen_string_literal: true

# Prints a label for each parcel: its name in capitals, cut to 10 characters, and its weight in grams.
FALLBACK = "NO NAME"

def label_of(name, kilograms)
  label = name.strip.empty? ? FALLBACK : name.strip
  "#{label.upcase.ljust(10)[0, 10]}|#{(kilograms * 1000).round}"
end

STDIN.each_line(chomp: true) do |line|
  name, weight = line.split(";")
  puts label_of(name, weight.to_f)
end
