package main

const opensAt = 300 // centimetres

// isOpen: the gate is open from the level opensAt on.
func isOpen(minute int) bool {
	return levelAt(minute) >= opensAt
}

// waitFrom gives the minutes until the gate next opens in this year; -1 when it opens no more.
func waitFrom(minute int) int {
	for waited := 0; minute+waited < minutesAYear; waited++ {
		if isOpen(minute + waited) {
			return waited
		}
	}
	return -1
}

// longestWait gives the longest wait of the year, and the first minute at which it begins.
func longestWait() (int, int) {
	longest, begins := 0, 0
	for minute := 0; minute < minutesAYear; minute++ {
		if waited := waitFrom(minute); waited > longest {
			longest, begins = waited, minute
		}
	}
	return longest, begins
}
