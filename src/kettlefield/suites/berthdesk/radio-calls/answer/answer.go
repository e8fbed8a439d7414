package main

import (
	"bufio"
	"fmt"
	"os"
	"strings"
)

func minutes(clock string) int {
	var h, m int
	fmt.Sscanf(clock, "%d:%d", &h, &m)
	return h*60 + m
}

func main() {
	since := map[string]string{}
	var order []string
	longest := 0
	lines := bufio.NewScanner(os.Stdin)
	for lines.Scan() {
		parts := strings.SplitN(lines.Text(), " ", 3)
		if len(parts) < 3 {
			continue
		}
		clock, what, ship := parts[0], parts[1], parts[2]
		began, waits := since[ship]
		if what == "call" {
			if !waits {
				since[ship] = clock
				order = append(order, ship)
			}
		} else if waits {
			if wait := minutes(clock) - minutes(began); wait > longest {
				longest = wait
			}
			delete(since, ship)
			for i, name := range order {
				if name == ship {
					order = append(order[:i], order[i+1:]...)
					break
				}
			}
		}
	}
	for _, ship := range order {
		fmt.Printf("%s @@word@@ %s\n", ship, since[ship])
	}
	fmt.Printf("@@most@@ %d\n", longest)
}
