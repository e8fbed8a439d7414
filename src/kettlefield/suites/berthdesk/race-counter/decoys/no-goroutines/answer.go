package main

import (
	"fmt"
	"sync"
)

// countPassengers adds up what the gates report; every gate reports from a goroutine of its own.
func countPassengers(gates [][]int) int {
	total := 0
	var wait sync.WaitGroup
	var guard sync.Mutex
	for _, gate := range gates {
		wait.Add(1)
		func(counts []int) {
			defer wait.Done()
			for _, n := range counts {
				guard.Lock()
				total += n
				guard.Unlock()
			}
		}(gate)
	}
	wait.Wait()
	return total
}

func main() {
	var gates, reports, n int
	fmt.Scan(&gates)
	all := make([][]int, gates)
	for i := range all {
		fmt.Scan(&reports)
		for j := 0; j < reports; j++ {
			fmt.Scan(&n)
			all[i] = append(all[i], n)
		}
	}
	fmt.Println("passengers", countPassengers(all))
}
