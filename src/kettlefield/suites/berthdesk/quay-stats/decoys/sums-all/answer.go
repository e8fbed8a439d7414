package main

import "fmt"

// summary returns how many values there are, the sum of those above zero, and the smallest of all (0 without any).
func summary(values []int) (int, int, int) {
	sum, smallest := 0, 0
	for i, value := range values {
		if value != 0 {
			sum += value
		}
		if i == 0 || value < smallest {
			smallest = value
		}
	}
	return len(values), sum, smallest
}

func main() {
	var values []int
	var value int
	for {
		if n, _ := fmt.Scan(&value); n != 1 {
			break
		}
		values = append(values, value)
	}
	count, sum, smallest := summary(values)
	fmt.Printf("count %d sum %d smallest %d\n", count, sum, smallest)
}
