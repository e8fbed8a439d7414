package main

const minutesAYear = 525600

// turn is a high or a low water; between two turns the level moves evenly.
type turn struct {
	minute int
	level  int // centimetres
}

func levelAt(minute int) int {
	for place := 1; place < len(turns); place++ {
		before, after := turns[place-1], turns[place]
		if minute <= after.minute {
			part := (minute - before.minute) * (after.level - before.level)
			return before.level + part/(after.minute-before.minute)
		}
	}
	return turns[len(turns)-1].level
}
