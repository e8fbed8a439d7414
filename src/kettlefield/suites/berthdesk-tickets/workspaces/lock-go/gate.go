package main

const opensAt = 300 // centimetres

// isOpen: the gate is open from the level opensAt on.
func isOpen(minute int) bool {
	return levelAt(minute) >= opensAt
}

// waitFrom gives the minutes until the gate next opens; the day after is like this day.
func waitFrom(minute int) int {
	for waited := 0; waited < minutesADay; waited++ {
		if isOpen((minute + waited) % minutesADay) {
			return waited
		}
	}
	return -1
}
