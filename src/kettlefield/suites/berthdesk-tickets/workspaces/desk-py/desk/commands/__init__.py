"""The commands by name; each takes the data folder and its arguments, and gives lines."""

from desk.commands import berths, crew, fare, sailings

COMMANDS = {
    "berths": berths.run,
    "crew": crew.run,
    "fare": fare.run,
    "sailings": sailings.run,
}
