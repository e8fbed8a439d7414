"""Says how many sailings there are."""

from timetable import SAILINGS

numbers = [number for number, *_ in SAILINGS]
assert len(set(numbers)) == len(numbers), "a number is there twice"
print(len(SAILINGS), "sailings")
